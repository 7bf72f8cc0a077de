import { describe, expect, it } from 'vitest';
import { textsPage } from './page.js';
import { TextBox } from './state.js';

const at = new Date('2026-12-01T09:00:00Z');
const form = (part: Record<string, string> = {}) =>
  new URLSearchParams({ key: 'k', recipient: '+447700900123', message: 'Code <b>123456</b>', ...part });

describe('a provider of text messages', () => {
  it('takes what has its key, a number and a message, and shows it', () => {
    const box = new TextBox('k');
    expect(box.take(form(), at).status).toBe(202);
    expect(box.list()).toEqual([
      { receivedAt: '2026-12-01T09:00:00.000Z', to: '+447700900123', text: 'Code <b>123456</b>' },
    ]);
    expect(textsPage(box.list())).toContain('Code &#60;b&#62;123456&#60;/b&#62;');
    expect(textsPage([])).toContain('No text message has arrived yet');
  });
  it('says why it does not', () => {
    const box = new TextBox('k');
    expect(box.take(form({ key: 'other' }), at).status).toBe(401);
    expect(box.take(form({ recipient: '07700 900123' }), at).status).toBe(422);
    expect(box.take(form({ message: '' }), at).status).toBe(422);
    expect(box.list()).toEqual([]);
  });
  it('keeps so many and no more', () => {
    const box = new TextBox('k', 2);
    for (const message of ['1', '2', '3']) box.take(form({ message }), at);
    expect(box.list().map((t) => t.text)).toEqual(['3', '2']);
  });
});
