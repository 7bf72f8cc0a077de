import { Injectable } from '@nestjs/common';
import { DataSource } from 'typeorm';

export interface OfficeSettings {
  name: string;
  /** IANA time zone, in which windows are entered and times are shown. */
  zone: string;
}

/** What the office is called and which clock hangs on its wall. */
@Injectable()
export class Office {
  constructor(private readonly db: DataSource) {}

  async settings(): Promise<OfficeSettings> {
    const [row] = await this.db.query<OfficeSettings[]>('SELECT name, zone FROM office');
    return row ?? { name: 'This office', zone: 'UTC' };
  }
}
