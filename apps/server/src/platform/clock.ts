import { Injectable } from '@nestjs/common';
import type { Instant } from '@quay/core';

/** The server's clock. Everything that asks for the time asks here, so that tests can move it. */
@Injectable()
export class Clock {
  now(): Instant {
    return Date.now();
  }
  date(): Date {
    return new Date(this.now());
  }
}
