import fc from 'fast-check';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { nameFault } from '../file-name/file-name.js';
import { sentenceText } from '../sentence/sentence.js';
import { ANYONE } from '../share/audience.js';
import { folderName, folderPatternFault } from './folder-pattern.js';
import { fileRefusal, INTAKE_LIMITS, limitsFault, type IntakeLimits } from './limits.js';
import { answerFaults, type IntakeQuestions } from './questions.js';
import { checksumList, readReceiptNumber, RECEIPT_BYTES, receiptNumber, receiptText } from './receipt.js';
import { intakeSentence, type IntakeTerms } from './sentence.js';

const NOW = Date.parse('2026-12-01T09:00:00Z');
const DAY = 86_400_000;
const ZONE = 'Europe/London';

describe('what may be handed in', () => {
  const limits: IntakeLimits = { fileBytes: 1000, files: 3, contributorBytes: 2000, allBytes: 5000, kinds: null };
  const code = (part: Partial<IntakeLimits>, before: object, file: object = {}) =>
    fileRefusal(
      { ...limits, ...part },
      { files: 0, bytes: 0, sourceBytes: 0, allBytes: 0, ...before },
      { sizeBytes: 500, kind: null, ...file },
    )?.code;
  it('is refused at each limit, and not before it', () => {
    expect([code({}, {}), code({}, { files: 2, bytes: 1500, allBytes: 4500 })]).toEqual([undefined, undefined]);
    expect(code({}, {}, { sizeBytes: 1001 })).toBe('intake.file-too-large');
    expect(code({}, { files: 3 })).toBe('intake.too-many-files');
    expect(code({}, { bytes: 1501 })).toBe('intake.too-much');
    expect(code({}, { allBytes: 4501 })).toBe('intake.full');
    expect(code({}, { sourceBytes: 9600 })).toBe('intake.source-full');
    expect(code({ kinds: ['pdf'] }, {}, { kind: 'picture' })).toBe('intake.kind');
    expect(code({ kinds: ['pdf'] }, {}, { kind: 'pdf' })).toBeUndefined();
  });
  it('never comes to more than the limits, in whatever order files come', () =>
    fc.assert(
      fc.property(fc.array(fc.nat(1500), { maxLength: 20 }), (sizes) => {
        let [files, bytes] = [0, 0];
        for (const sizeBytes of sizes)
          if (!fileRefusal(limits, { files, bytes, sourceBytes: bytes, allBytes: bytes }, { sizeBytes, kind: null })) {
            files += 1;
            bytes += sizeBytes;
          }
        expect([files <= 3, bytes <= 2000]).toEqual([true, true]);
      }),
    ));
  it('has limits that do not contradict each other', () => {
    expect(limitsFault(INTAKE_LIMITS)).toBeNull();
    expect(limitsFault({ ...limits, contributorBytes: 900 })?.field).toBe('contributorBytes');
    expect(limitsFault({ ...limits, allBytes: 1900 })?.field).toBe('allBytes');
    expect(limitsFault({ ...limits, kinds: [] })?.field).toBe('kinds');
  });
});

describe('the sentence of an intake', () => {
  const terms: IntakeTerms = {
    ...{ audience: ANYONE, limits: { ...INTAKE_LIMITS, files: 20 }, hasPassword: false, waits: false, straight: null },
    window: { opensAt: null, closesAt: NOW + 10 * DAY },
  };
  const text = (part: Partial<IntakeTerms> = {}) => sentenceText(intakeSentence({ ...terms, ...part }, NOW, ZONE));
  it('says who, what and until when, and that nobody sees the rest', () => {
    expect(text()).toBe(
      'Anyone with the link can hand in up to 20 files of at most 2 GB each until Fri 11 Dec, 09:00; nobody sees what others handed in.',
    );
    expect(text({ window: { opensAt: NOW + DAY, closesAt: null }, hasPassword: true, waits: true })).toBe(
      'Anyone with the link and the password can hand in up to 20 files of at most 2 GB each from Wed 2 Dec, 09:00 until somebody closes it; nobody sees what others handed in, and it waits to be accepted.',
    );
    expect(text({ limits: { ...INTAKE_LIMITS, files: 1, kinds: ['picture', 'pdf'] } })).toBe(
      'Anyone with the link can hand in up to 1 file of at most 2 GB, pictures and PDF only, until Fri 11 Dec, 09:00; nobody sees what others handed in.',
    );
    expect(text({ window: { opensAt: NOW - 2 * DAY, closesAt: NOW - DAY } })).toContain('could hand in');
  });
});

describe('the folder of a contributor', () => {
  const who = { at: NOW, name: 'Zoe Calder', firm: 'Calder & Sons', number: 'D-7K3M-9QXT' };
  it('has a name by the pattern, in the time of the office', () => {
    expect(folderName('{{date}} {{name}}', who, ZONE)).toBe('2026-12-01 Zoe Calder');
    expect(folderName('{{ firm }}, {{time}} {{number}}', who, 'Australia/Sydney')).toBe(
      'Calder & Sons, 20.00 D-7K3M-9QXT',
    );
    expect(folderName('{{date}} {{name}}', { ...who, name: ' ' }, ZONE)).toBe('2026-12-01 without a name');
    expect([folderPatternFault('{{date}}'), folderPatternFault(' ')]).toEqual([
      null,
      expect.stringMatching(/write one/),
    ]);
    expect(folderPatternFault('{{mail}}')).toMatch(/^\{\{mail\}\} is none/);
  });
  it('is one that every desktop can hold, whatever somebody calls themselves', () =>
    fc.assert(
      fc.property(fc.string({ unit: 'binary', maxLength: 300 }), (name) => {
        expect(nameFault(folderName('{{name}}', { ...who, name }, ZONE))).toBeNull();
      }),
    ));
  it('cannot lead elsewhere', () =>
    expect(folderName('{{name}}', { ...who, name: '../../Payroll\u202E{{date}}' }, ZONE)).not.toMatch(/[/\\]/));
});

describe('a receipt', () => {
  it('has a number that can be read out, and read back however it is typed', () => {
    expect(receiptNumber(new Uint8Array(RECEIPT_BYTES))).toBe('D-0000-0000');
    expect(receiptNumber(new Uint8Array([255, 255, 255, 255, 255]))).toBe('D-ZZZZ-ZZZZ');
    expect(readReceiptNumber(' d 7k3m9qxt ')).toBe('D-7K3M-9QXT');
    expect(readReceiptNumber('D-OI1L-0000')).toBe('D-0111-0000');
    for (const wrong of ['', 'D-7K3M', 'D-7K3M-9QXU', 'D-7K3M-9QXT-1']) expect(readReceiptNumber(wrong)).toBeNull();
    fc.assert(
      fc.property(fc.uint8Array({ minLength: RECEIPT_BYTES, maxLength: RECEIPT_BYTES }), (bytes) => {
        const number = receiptNumber(bytes);
        expect(readReceiptNumber(number.toLowerCase())).toBe(number);
      }),
    );
    expect(() => receiptNumber(new Uint8Array(4))).toThrow(RangeError);
  });

  it('is checked by sha256sum (GNU coreutils), also where names are strange', () => {
    const folder = mkdtempSync(join(tmpdir(), 'quay-receipt-'));
    try {
      const paths = ['plan.pdf', 'Site visit/001.jpg', 'back\\slash', 'line\nend', ' spaces ', '-rf', 'Zürich 测试'];
      const files = paths.map((path, n) => {
        const content = Buffer.from(`content ${n}`);
        mkdirSync(dirname(join(folder, path)), { recursive: true });
        writeFileSync(join(folder, path), content);
        return { path, sizeBytes: content.length, sha256: createHash('sha256').update(content).digest('hex') };
      });
      const check = () =>
        execFileSync('sha256sum', ['--check', '--strict', '--quiet'], {
          cwd: folder,
          input: checksumList(files),
          stdio: 'pipe',
        });
      expect(check().toString()).toBe('');
      writeFileSync(join(folder, 'line\nend'), 'another');
      expect(check).toThrow();
    } finally {
      rmSync(folder, { recursive: true, force: true });
    }
  });

  it('has a text in which nothing passes for something else', () => {
    const base = {
      number: 'D-0000-0000',
      title: 'Photographs',
      office: 'Saltmarsh',
      at: '2026-12-01T09:00:00Z',
      name: '',
    };
    const file = { path: 'a', sizeBytes: 1, sha256: 'ab' };
    const forged = { ...base, name: `x"\nab 1 "a` };
    expect(receiptText({ ...base, files: [file] })).not.toBe(receiptText({ ...forged, files: [] }));
    expect(receiptText({ ...forged, files: [] }).split('\n')).toHaveLength(6);
  });
});

it('what is asked is answered, and nothing else is', () => {
  const questions: IntakeQuestions = {
    ...{ name: 'must', mail: 'may', firm: 'no' },
    own: [{ id: 'site', words: 'Which site?', must: true }],
  };
  const answers = { name: 'Zoe', mail: '', firm: '', own: { site: 'Mill Lane' } };
  expect(answerFaults(questions, answers)).toEqual([]);
  const faults = answerFaults(questions, { name: ' ', mail: 'x'.repeat(501), firm: 'Calder', own: { other: '1' } });
  expect(faults.map((f) => [f.field, f.code])).toEqual([
    ['name', 'answer.missing'],
    ['mail', 'answer.too-long'],
    ['firm', 'answer.not-asked'],
    ['own.site', 'answer.missing'],
    ['own.other', 'answer.not-asked'],
  ]);
  expect(
    answerFaults({ ...questions, own: [{ id: 'constructor', words: 'x', must: true }] }, { ...answers, own: {} }),
  ).toEqual([expect.objectContaining({ field: 'own.constructor', code: 'answer.missing' })]);
});
