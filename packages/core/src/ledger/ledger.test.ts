import { createHash } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { canonicalJson, GENESIS_HASH, ledgerHash, verifyChain, type LedgerBody, type LedgerLink } from './ledger.js';
import { ledgerWords } from './words.js';

const body = (seq: number): LedgerBody => ({
  seq,
  at: '2026-11-24T10:04:00.000Z',
  kind: 'share.published',
  actor: { kind: 'person', id: null, name: 'Iris Ward' },
  shareId: null,
  nodeId: null,
  detail: { title: `Share ${seq}`, items: seq },
});

function chain(length: number): LedgerLink[] {
  const links: LedgerLink[] = [];
  for (let seq = 1; seq <= length; seq += 1) {
    const prevHash = links.at(-1)?.hash ?? GENESIS_HASH;
    links.push({ body: body(seq), prevHash, hash: ledgerHash(body(seq), prevHash) });
  }
  return links;
}

describe('canonical JSON', () => {
  it('is that of RFC 8785 §3.2.2 to §3.2.4 (the example of the RFC)', () => {
    const example = JSON.parse(
      '{"numbers":[333333333.33333329,1E30,4.50,2e-3,0.000000000000000000000000001],"string":"\\u20ac$\\u000F\\u000aA\'\\u0042\\u0022\\u005c\\\\\\"\\/","literals":[null,true,false]}',
    ) as unknown;
    expect(canonicalJson(example)).toBe(
      '{"literals":[null,true,false],"numbers":[333333333.3333333,1e+30,4.5,0.002,1e-27],"string":"€$\\u000f\\nA\'B\\"\\\\\\\\\\"/"}',
    );
  });
  it('sorts by UTF-16 code units (RFC 8785 §3.2.3: its example)', () => {
    const example = {
      '\u20ac': 'Euro Sign',
      '\r': 'Carriage Return',
      '\ufb33': 'Hebrew Letter Dalet With Dagesh',
      '1': 'One',
      '\ud83d\ude00': 'Emoji: Grinning Face',
      '\u0080': 'Control',
      '\u00f6': 'Latin Small Letter O With Diaeresis',
    };
    expect(Object.values(JSON.parse(canonicalJson(example)) as object)).toHaveLength(7);
    expect([...canonicalJson(example).matchAll(/:"([A-Z]\w+)/g)].map((m) => m[1])).toEqual([
      'Carriage',
      'One',
      'Control',
      'Latin',
      'Euro',
      'Emoji',
      'Hebrew',
    ]);
  });
});

describe('the chain', () => {
  it('carries the SHA-256 of Node.js over the canonical text', () => {
    const text = `{"body":${canonicalJson(body(1))},"prevHash":"${GENESIS_HASH}"}`;
    expect(ledgerHash(body(1), GENESIS_HASH)).toBe(createHash('sha256').update(text).digest('hex'));
  });
  it('holds when nothing was touched', () => expect(verifyChain(chain(50))).toBeNull());
  it('tells which entry was altered', () => {
    const links = chain(5);
    (links[2] as LedgerLink).body.detail['title'] = 'Another';
    expect(verifyChain(links)).toEqual({ seq: 3, fault: 'altered' });
  });
  it('tells an altered entry whose own hash was made anew', () => {
    const links = chain(5);
    const third = links[2] as LedgerLink;
    third.body.detail['title'] = 'Another';
    third.hash = ledgerHash(third.body, third.prevHash);
    expect(verifyChain(links)).toEqual({ seq: 4, fault: 'not-linked' });
  });
  it('tells a missing entry', () =>
    expect(verifyChain(chain(5).filter((l) => l.body.seq !== 2))).toEqual({ seq: 2, fault: 'gap' }));
});

describe('words', () => {
  it('say what happened', () => expect(ledgerWords(body(1))).toBe('published Share 1'));
  it('show an unknown kind as it is', () =>
    expect(ledgerWords({ kind: 'moon.landed', detail: {} })).toBe('moon.landed'));
});
