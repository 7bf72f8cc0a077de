import { expect, it } from 'vitest';
import { showsTextAsPages } from './looking.js';

it('a text is shown as pages where it is only to look at, or withheld beside what is marked', () => {
  const view = { level: 'view', watermark: 'none' } as const;
  const marked = { level: 'download', watermark: 'others-withheld' } as const;
  const plain = { level: 'download', watermark: 'none' } as const;
  expect(showsTextAsPages('notes.txt', 'withheld', view)).toBe(true);
  expect(showsTextAsPages('levels.csv', 'withheld', marked)).toBe(true);
  // What is given is shown as it is.
  expect(showsTextAsPages('notes.txt', 'plain', marked)).toBe(false);
  // As many visits have taken it as may, and nothing is marked.
  expect(showsTextAsPages('notes.txt', 'withheld', plain)).toBe(false);
  for (const name of ['plan.pdf', 'a.jpg', 'memo.mp3', 'scan.las'])
    expect(showsTextAsPages(name, 'withheld', view)).toBe(false);
});
