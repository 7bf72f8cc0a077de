import { Injectable } from '@nestjs/common';
import { ReplaySubject } from 'rxjs';

/** Asks, once, for this process to begin anew with what the database says now; whoever started it listens. */
@Injectable()
export class Restart {
  readonly asked = new ReplaySubject<void>(1);

  ask(): void {
    this.asked.next();
    // Nobody hears of it twice: one beginning is under way.
    this.asked.complete();
  }
}
