import type { Random } from './random.js';
import { PEOPLE, PROJECTS } from './scenario.js';
import * as sample from './sample-files.js';

/**
 * A file of the demo: where it lies, who put it there, days before now, and the bytes of each version, oldest first.
 */
export interface DemoFile {
  path: string;
  by: string;
  daysAgo: number;
  versions: (() => Promise<Buffer> | Buffer)[];
}

const crew = ['tomas', 'rosa', 'sam', 'leo'];
const drawers = ['rosa', 'noel', 'hana', 'edie', 'iris'];

/** What files are made with: the random numbers of the demo, in one order, and the days before now. */
interface Making {
  random: Random;
  add: (path: string, by: string, daysAgo: number, ...versions: DemoFile['versions']) => void;
  at: (daysAgo: number) => Date;
}

/** About 400 files in three stores and the homes. */
export function demoFiles(random: Random, now: number): DemoFile[] {
  const files: DemoFile[] = [];
  const making: Making = {
    random,
    add: (path, by, daysAgo, ...versions) => files.push({ path, by, daysAgo, versions }),
    at: (daysAgo) => new Date(now - daysAgo * 86_400_000),
  };
  for (const [index, project] of PROJECTS.entries()) addProject(making, project, 84 - index * 7);
  addSingles(making);
  addEarlierYears(making);
  addOffice(making);
  addTenders(making);
  addHomes(making);
  return files;
}

/** @param began days before now at which the project began */
function addProject(making: Making, [name, prefix, photographs]: (typeof PROJECTS)[number], began: number): void {
  const { random, add, at } = making;
  const base = `Projects/2026/${name}`;
  for (let n = 1; n <= photographs; n += 1)
    add(
      `${base}/Photographs/${prefix} ${String(n).padStart(3, '0')}.jpg`,
      random.pick(crew),
      Math.max(0.2, began - n * 0.7),
      () => sample.photograph(random),
    );
  add(`${base}/Photographs/Thumbs.db`, 'sam', began - 1, () => random.bytes(9000));
  addDrawings(making, base, prefix, began);
  for (const section of ['A', 'B', 'C'])
    add(`${base}/Sections/Section ${section}.pdf`, random.pick(drawers), began - 24, () =>
      sample.drawing(random, `${name}, section ${section}`, at(began - 24)),
    );
  add(`${base}/North elevation.png`, 'tomas', Math.max(1, began - 26), () => sample.elevation(random));
  add(
    `${base}/Boundary.dxf`,
    'iris',
    Math.max(1, began - 12),
    () => sample.dxf(random, 9000),
    () => sample.dxf(random, 11_000),
  );
  add(
    `${base}/Control points.csv`,
    'rosa',
    Math.max(1, began - 10),
    ...Array.from({ length: random.whole(1, 5) }, () => () => sample.csv(random, 420)),
  );
  for (let week = 44; week <= 46; week += 1)
    add(`${base}/Levels/Levels week ${week}.csv`, random.pick(crew), Math.max(1, (47 - week) * 7), () =>
      sample.csv(random, 160),
    );
  add(`${base}/Notes.txt`, random.pick(crew), Math.max(0.5, began - 30), () => sample.note(random, name));
  for (let scan = 1; scan <= 2; scan += 1)
    add(`${base}/Scans/Scan ${String(scan).padStart(2, '0')}.las`, 'tomas', Math.max(1, began - 18), () =>
      sample.pointCloud(random, random.whole(150_000, 500_000), at(began - 18)),
    );
}

function addDrawings({ random, add, at }: Making, base: string, prefix: string, began: number): void {
  for (const [code, words] of [
    ['101', 'ground floor'],
    ['102', 'first floor'],
    ['103', 'roof'],
  ] as const) {
    const title = `${prefix}-${code} ${words}`;
    add(
      `${base}/${title}.pdf`,
      random.pick(drawers),
      began - 20 + random.whole(0, 6),
      ...Array.from(
        { length: random.whole(1, 4) },
        (_, v) => () => sample.drawing(random, `${title}, revision ${v + 1}`, at(began - 20), random.whole(1, 4)),
      ),
    );
  }
}

function addSingles({ random, add, at }: Making): void {
  add('Projects/2026/Mill Lane/Scans/Scan 14.las', 'tomas', 5.2, () => sample.pointCloud(random, 2_400_000, at(5)));
  add('Projects/2026/Saltings bridge/Drone pass.webm', 'sam', 1.3, () => sample.video(random));
  add('Projects/2026/Fenway culvert/Section C draft.pdf', 'rosa', 4, () =>
    sample.drawing(random, 'Section C, draft', at(4)),
  );
  add('Projects/2026/Hartop yard/Levels week 45.csv', 'leo', 10, () => sample.csv(random, 80));
}

function addEarlierYears({ random, add, at }: Making): void {
  for (const year of ['2024', '2025'])
    for (const [name, prefix] of [
      ['Harbour office', 'HO'],
      ['Glebe farm', 'GF'],
    ] as const) {
      add(`Projects/${year}/${name}/${prefix}-101 ground floor.pdf`, 'noel', 88, () =>
        sample.drawing(random, `${prefix}-101`, at(400)),
      );
      add(`Projects/${year}/${name}/Boundary.dxf`, 'noel', 88, () => sample.dxf(random, 4000));
      for (let n = 1; n <= 8; n += 1)
        add(`Projects/${year}/${name}/Photographs/${prefix} ${String(n).padStart(3, '0')}.jpg`, 'sam', 88, () =>
          sample.photograph(random, 960, 720),
        );
    }
}

function addOffice({ random, add, at }: Making): void {
  add(
    'Office/Handbook.pdf',
    'iris',
    62,
    () => sample.drawing(random, 'Office handbook', at(80), 6),
    () => sample.drawing(random, 'Office handbook, second edition', at(62), 7),
  );
  add('Office/Insurance.pdf', 'ada', 41, () => sample.drawing(random, 'Insurance', at(41)));
  add(
    'Office/Site rota.csv',
    'ada',
    2,
    () => sample.csv(random, 30),
    () => sample.csv(random, 31),
    () => sample.csv(random, 33),
  );
  for (const name of ['Letterhead', 'Compliment slip', 'Fee proposal', 'Site report'])
    add(`Office/Templates/${name}.pdf`, 'bram', 34, () => sample.drawing(random, name, at(34)));
  for (const person of PEOPLE)
    add(`Office/Letters/Letter ${person.initials}.pdf`, 'ada', 3, () =>
      sample.drawing(random, `Letter to ${person.name}`, at(3)),
    );
  for (let n = 1; n <= 10; n += 1)
    add(`Office/Open day/Open day ${String(n).padStart(2, '0')}.jpg`, 'bram', 71, () =>
      sample.photograph(random, 960, 720),
    );
}

function addTenders({ random, add, at }: Making): void {
  for (let pack = 1; pack <= 3; pack += 1) {
    for (const part of ['Instructions', 'Bill of quantities', 'Programme', 'Form of tender'])
      add(`Tenders/Pack ${pack}/${part}.pdf`, 'priya', 66 - pack * 20, () =>
        sample.drawing(random, `${part}, pack ${pack}`, at(66 - pack * 20), 3),
      );
    add(`Tenders/Pack ${pack}/Rates.csv`, 'priya', 65 - pack * 20, () => sample.csv(random, 90));
  }
  add('Tenders/Fees draft.csv', 'priya', 7.2, () => sample.csv(random, 40));
}

function addHomes({ random, add, at }: Making): void {
  for (const person of PEOPLE)
    for (let n = 1; n <= 3; n += 1)
      add(`home:${person.key}/Notes ${n}.txt`, person.key, random.whole(2, 80), () =>
        sample.note(random, `Notes ${n}`),
      );
  for (const name of ['Review 2026', 'Contracts', 'Absences'])
    add(`Office/Personnel/${name}.pdf`, 'priya', 59, () => sample.drawing(random, name, at(59)));
}
