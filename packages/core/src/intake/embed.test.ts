import { describe, expect, it } from 'vitest';
import { coloursFault, contrastOf, embedSnippet, originOf } from './embed.js';

describe('the origin of a page', () => {
  it.each([
    // Examples of RFC 6454 §5 and §6.2, and what people paste.
    ['http://example.com/', 'http://example.com'],
    ['http://example.com:80/', 'http://example.com'],
    ['HTTPS://Example.com:443/path/file', 'https://example.com'],
    ['https://www.saltmarsh.example/contact?x=1#form', 'https://www.saltmarsh.example'],
    ['http://127.0.0.1:4183/site', 'http://127.0.0.1:4183'],
    ['www.saltmarsh.example', null],
    ['https://', null],
    ['https://*.saltmarsh.example', null],
    ["https://a.example; script-src 'unsafe-inline'", null],
    ['https://a.example b.example', null],
    ['https://user@a.example', null],
    ['https://a.example:0', null],
    ['data:text/html,x', null],
  ])('%s: %s', (text, origin) => expect(originOf(text)).toBe(origin));
});

describe('colours', () => {
  it('are told apart as WCAG 2.2 says', () => {
    expect(contrastOf('#000000', '#ffffff')).toBe(21);
    expect(contrastOf('#ffffff', '#ffffff')).toBe(1);
    // The lightest grey that passes on white, and the first that does not (WebAIM, "Contrast and Color Accessibility").
    expect(contrastOf('#767676', '#ffffff')).toBeGreaterThan(4.5);
    expect(contrastOf('#777777', '#ffffff')).toBeLessThan(4.5);
  });
  it('that cannot be read are refused', () => {
    const ours = { ink: '#1c2b33', paper: '#fbf9f4', accent: '#0e5a60' };
    expect(coloursFault(ours)).toBeNull();
    expect(coloursFault({ ...ours, ink: '#c0c0c0' })).toMatch(/text cannot be read/);
    expect(coloursFault({ ...ours, accent: '#ffee99' })).toMatch(/pressed cannot be read/);
    expect(coloursFault({ ...ours, ink: 'red' })).toMatch(/#rrggbb/);
  });
});

it('a snippet names the link, and nothing in a title leaves it', () => {
  const snippet = embedSnippet('https://files.saltmarsh.example/h/abc', 'A "title" <b>&');
  expect(snippet).toContain('src="https://files.saltmarsh.example/h/abc/embed"');
  expect(snippet).toContain('title="A &quot;title&quot; &lt;b&gt;&amp;"');
  expect(snippet).toContain('origin !== "https://files.saltmarsh.example"');
});
