import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';
import { Jobs } from '../platform/jobs/jobs.service.js';

const EVERY_MINUTE = '* * * * *';
/** Taken up in one transaction. */
const AT_ONCE = 5000;

/**
 * Adds up what folders weigh. What has not been added up is counted all the same, but each question has to look at it.
 */
@Injectable()
export class WeightsService {
  constructor(
    private readonly db: DataSource,
    jobs: Jobs,
  ) {
    jobs.define(
      'weights',
      () => 'Add up what folders weigh',
      () => this.addUp(),
    );
    jobs.regularly('weights', EVERY_MINUTE);
  }

  /** Until nothing is left, or a folder is being moved just now. */
  async addUp(): Promise<void> {
    for (let taken = AT_ONCE; taken === AT_ONCE;) {
      const [row] = await this.db.query<{ taken: number }[]>('SELECT weights_fold($1) AS taken', [AT_ONCE]);
      taken = row?.taken ?? 0;
    }
  }
}
