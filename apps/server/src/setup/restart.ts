import { Injectable } from '@nestjs/common';
import { Subject } from 'rxjs';

/** Asks for this process to begin anew with what the database says now; whoever started it listens. */
@Injectable()
export class Restart {
  readonly asked = new Subject<void>();

  ask(): void {
    this.asked.next();
  }
}
