import type { Instant } from '@quay/core';

/** The server's clock. Everything that asks for the time asks here, so that tests can move it. */
export class Clock {
  /** @param aheadMs how far this clock is ahead of the machine's; 0 but for demonstrations */
  constructor(private readonly aheadMs = 0) {}

  now(): Instant {
    return Date.now() + this.aheadMs;
  }
  date(): Date {
    return new Date(this.now());
  }
}
