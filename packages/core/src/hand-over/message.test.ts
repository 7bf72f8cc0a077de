import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  mailtoLink,
  MESSAGE_PLACEHOLDERS,
  messageFault,
  messageHtml,
  messageSubject,
  messageText,
  type MessageValues,
} from './message.js';

const VALUES: MessageValues = {
  link: 'https://files.saltmarsh.example/s/6fqJk2mXw0aVb8RtYcLh3N',
  title: 'Mill Lane & "tender" <drawings>',
  opens: 'at once',
  closes: 'Tue 8 Dec, 17:00',
  sender: "Tomas O'Sei",
  items: 'Plans\nLevels.csv',
  'password-note': 'You get the password by telephone.',
};
const template = (text: string, subject = 'Files for you') => ({ subject, text });

describe('a message as it is written', () => {
  it('can be sent with a link in it, and with every placeholder there is', () => {
    expect(messageFault(template('Here: {{link}}'))).toBeNull();
    const all = MESSAGE_PLACEHOLDERS.map((name) => `{{ ${name} }}`).join(' ');
    expect(messageFault(template(all, '{{title}} from {{sender}}'))).toBeNull();
  });
  it('names what keeps it from being sent, at its field', () => {
    expect(messageFault(template('No way in'))).toMatchObject({ field: 'text', code: 'message.no-link' });
    expect(messageFault(template('{{link}}', ' '))).toMatchObject({ field: 'subject', code: 'message.empty' });
    expect(messageFault(template('{{link}} {{pasword-note}}'))?.words).toMatch(/^\{\{pasword-note\}\} is none/);
    expect(messageFault(template('{{link}}', 'For {{name}}'))).toMatchObject({
      ...{ field: 'subject', code: 'message.unknown-placeholder' },
    });
    // Not the link itself, and not a piece of a placeholder.
    expect(messageFault(template(VALUES.link))?.code).toBe('message.no-link');
    expect(messageFault(template('{link} {{link'))?.code).toBe('message.no-link');
  });
});

describe('a message as it is sent', () => {
  it('is text with everything filled in', () => {
    const text = messageText(template('Dear all,\r\n\r\n{{title}}\n{{items}}\n\n\n\n{{link}}\n'), VALUES);
    expect(text).toBe(`Dear all,\n\nMill Lane & "tender" <drawings>\nPlans\nLevels.csv\n\n${VALUES.link}\n`);
  });
  it('has a subject of one line, whatever is put into it', () => {
    const values = { ...VALUES, title: 'Plans\r\nBcc: everybody@saltmarsh.example\u2028\0end' };
    expect(messageSubject(template('{{link}}', '{{title}},  now'), values)).toBe(
      'Plans Bcc: everybody@saltmarsh.example end, now',
    );
  });
  it('is HTML in which values and words are text, and the link is one', () => {
    const html = messageHtml(
      template('<b>Hello</b> {{sender}}\nsecond\n\n{{title}}: {{link}}'),
      VALUES,
      'Salt & Marsh',
    );
    expect(html).toContain('&lt;b&gt;Hello&lt;/b&gt; Tomas O&#39;Sei<br>\nsecond</p>');
    expect(html).toContain('Mill Lane &amp; &quot;tender&quot; &lt;drawings&gt;: <a href="https://files');
    expect(html).toContain('Salt &amp; Marsh');
    expect(html.match(/<a /g)).toHaveLength(1);
    expect(html).not.toMatch(/<b>|<img|<script|src=/);
  });
  it('fills in once: what a value holds is no placeholder', () => {
    const values = { ...VALUES, title: '{{link}}' };
    expect(messageText(template('{{title}}'), values)).toBe('{{link}}\n');
    expect(messageHtml(template('{{title}}'), values, '')).not.toContain('<a ');
  });
  it('has no tag but ours, whatever is written and filled in', () =>
    fc.assert(
      fc.property(fc.string({ maxLength: 200 }), fc.string({ maxLength: 200 }), (text, title) => {
        const html = messageHtml(template(`${text} {{title}}`), { ...VALUES, title }, title);
        const tags = [...html.matchAll(/<([a-z!/]+)/g)].map((found) => found[1]);
        const ours = ['!doctype', 'html', 'head', 'meta', '/head', 'body', 'div', 'p', '/p', 'br', 'a', '/a', '/div'];
        expect(tags.filter((tag) => ![...ours, '/body', '/html'].includes(tag as string))).toEqual([]);
      }),
    ));
});

describe('a message for the own mail program', () => {
  // RFC 6068, 6.1 and 5: several recipients, a body of two lines, a percent sign in an address, an ampersand.
  it('is an address as RFC 6068 writes them', () => {
    expect(mailtoLink(['infobot@example.com'], 'current-issue', 'send current-issue\nsend index')).toBe(
      'mailto:infobot@example.com?subject=current-issue&body=send%20current-issue%0D%0Asend%20index',
    );
    expect(mailtoLink(['gorby%kremvax@example.com'], 'a', 'b')).toContain('mailto:gorby%25kremvax@example.com?');
    expect(mailtoLink(['unlikely?address@example.com'], 'a', 'b')).toContain('mailto:unlikely%3Faddress@example.com?');
    expect(mailtoLink(['Mike&family@example.org'], 'a', 'b')).toContain('mailto:Mike%26family@example.org?');
    expect(mailtoLink(['one@saltmarsh.example', 'two@saltmarsh.example'], 'a', 'b')).toMatch(/^mailto:one@[^,]+,two@/);
  });
  it('is read back by another parser (WHATWG URL)', () => {
    const url = new URL(mailtoLink(['a@saltmarsh.example'], 'Pläne & mehr', 'Zeile 1\n{{x}} 100 %'));
    expect([url.protocol, url.pathname]).toEqual(['mailto:', 'a@saltmarsh.example']);
    expect(url.searchParams.get('subject')).toBe('Pläne & mehr');
    expect(url.searchParams.get('body')).toBe('Zeile 1\r\n{{x}} 100 %');
  });
});
