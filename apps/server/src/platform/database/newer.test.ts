import { DataSource } from 'typeorm';
import { expect, it } from 'vitest';
import { freshDatabase } from '../../_fixtures/office.js';
import { dataSourceOptions, migrate } from './database.js';

it('a database that a newer program made is refused, and left as it is', async () => {
  const source = await new DataSource(dataSourceOptions(await freshDatabase(), [])).initialize();
  const applied = () => source.query<{ name: string }[]>('SELECT name FROM migrations ORDER BY id');
  await migrate(source);
  await source.query("INSERT INTO migrations (timestamp, name) VALUES (9999999999999, 'Later9999999999999')");
  const before = await applied();
  await expect(migrate(source)).rejects.toThrow('made by a newer Lockfast Quay (it has Later9999999999999)');
  expect(await applied()).toEqual(before);
  await source.destroy();
});
