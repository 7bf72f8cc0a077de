import { describe, expect, it } from 'vitest';
import { contentVerdict, kindOfMedia, kindOfName } from './content.js';

describe('what a file says it is', () => {
  it.each([
    ['001.JPG', 'picture'],
    ['ML-101 ground floor.pdf', 'pdf'],
    ['Levels.csv', 'text'],
    ['Boundary.dxf', 'drawing'],
    ['Scan 01.laz', 'drawing'],
    ['Fees.xlsx', 'office'],
    ['Site visit.zip', 'archive'],
    ['README', null],
    ['.jpg.', null],
    ['holiday.jpg.exe', null],
  ])('%s: %s', (name, kind) => expect(kindOfName(name)).toBe(kind));
});

describe('a file', () => {
  const verdict = (name: string, media: string | null) => contentVerdict(name, media).verdict;
  it('is what it says, or is not', () => {
    expect(verdict('001.jpg', 'image/jpeg')).toBe('as-named');
    // Another kind of picture is a picture.
    expect(verdict('001.jpg', 'image/png')).toBe('as-named');
    expect(verdict('plan.pdf', 'application/zip')).toBe('other');
    expect(verdict('plan.pdf', null)).toBe('other');
    expect(verdict('levels.csv', null)).toBe('as-named');
    expect(verdict('levels.csv', 'image/png')).toBe('other');
    expect(verdict('fees.docx', 'application/zip')).toBe('as-named');
    expect(verdict('fees.doc', 'application/x-cfb')).toBe('as-named');
    expect(verdict('logo.svg', 'application/xml')).toBe('as-named');
    expect(verdict('logo.svg', null)).toBe('as-named');
    expect(verdict('points.e57', null)).toBe('as-named');
    expect(verdict('unheard.of', null)).toBe('not-told');
  });
  it('that is a program is said to be one, whatever it is called', () => {
    expect(contentVerdict('site.jpg', 'application/x-msdownload').words).toBe('site.jpg is a program');
    expect(verdict('site.jpg', 'application/x-elf')).toBe('program');
    expect(verdict('holiday.jpg.exe', null)).toBe('program');
    expect(verdict('Install.SH ', null)).toBe('program');
  });
});

it('media types are sorted by what is in them', () => {
  expect(
    ['image/vnd.dwg', 'audio/mpeg', 'video/mp4', 'application/gzip', 'application/json', 'font/woff2'].map(kindOfMedia),
  ).toEqual(['drawing', 'sound', 'film', 'archive', 'text', null]);
});
