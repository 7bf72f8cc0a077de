import { createServer, type Server } from 'node:http';
import type { OfficeStatus } from './relay.js';

/** What the relay tells whoever runs it: a page, figures for machines that watch (OpenMetrics 1.0), and that it lives. */
export function statusServer(status: () => OfficeStatus[]): Server {
  return createServer((req, res) => {
    const send = (code: number, type: string, text: string) =>
      res
        .writeHead(code, {
          'content-type': type,
          'cache-control': 'no-store',
          'content-security-policy': "default-src 'none'; style-src 'unsafe-inline'",
        })
        .end(text);
    if (req.method !== 'GET' && req.method !== 'HEAD') return void send(405, 'text/plain; charset=utf-8', 'GET only\n');
    if (req.url === '/') return void send(200, 'text/html; charset=utf-8', page(status()));
    if (req.url === '/metrics')
      return void send(200, 'application/openmetrics-text; version=1.0.0; charset=utf-8', metrics(status()));
    if (req.url === '/healthz') return void send(200, 'text/plain; charset=utf-8', 'ok\n');
    send(404, 'text/plain; charset=utf-8', 'There is a page at /, and figures at /metrics.\n');
  });
}

interface Family {
  name: string;
  type: 'gauge' | 'counter';
  help: string;
  value: (office: OfficeStatus) => number;
}
const FAMILIES: Family[] = [
  { name: 'quay_relay_lines', type: 'gauge', help: 'Lines that an office keeps.', value: (o) => o.lines },
  { name: 'quay_relay_visitors', type: 'gauge', help: 'Visitors of an office now.', value: (o) => o.visitors },
  { name: 'quay_relay_visits', type: 'counter', help: 'Visitors that were passed on.', value: (o) => o.visitorsEver },
  { name: 'quay_relay_refusals', type: 'counter', help: 'Visitors beyond a limit.', value: (o) => o.refusedEver },
  { name: 'quay_relay_month_bytes', type: 'gauge', help: 'Bytes passed in this month.', value: (o) => o.monthBytes },
];

/** OpenMetrics 1.0. Offices are called by letters, digits and hyphens only, so that labels need no quoting. */
export function metrics(offices: readonly OfficeStatus[]): string {
  const families = FAMILIES.map(({ name, type, help, value }) => {
    const sample = type === 'counter' ? `${name}_total` : name;
    const lines = offices.map((o) => `${sample}{office="${o.id}"} ${value(o)}`);
    return [`# TYPE ${name} ${type}`, `# HELP ${name} ${help}`, ...lines].join('\n');
  });
  return `${families.join('\n')}\n# EOF\n`;
}

const escaped = (text: string): string => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);

function page(offices: readonly OfficeStatus[]): string {
  const rows = offices.map(
    (o) =>
      `<tr><th scope="row">${escaped(o.id)}</th><td>${o.names.map(escaped).join('<br>') || '–'}</td><td>${o.lines || 'none'}</td><td>${o.visitors}</td><td>${o.refusedEver}</td><td>${(o.monthBytes / 1e9).toFixed(2)} GB</td></tr>`,
  );
  return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>Relay</title>
<style>body{font:16px/1.5 system-ui;margin:2rem auto;max-width:60rem;padding:0 1rem;color:#1d2b2f;background:#fbfaf7}table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.4rem .8rem .4rem 0;border-bottom:1px solid #d8d4c8;vertical-align:top}</style>
<h1>Relay</h1><p>${offices.filter((o) => o.lines > 0).length} of ${offices.length} offices keep a line.</p>
<table><thead><tr><th scope="col">Office<th scope="col">Names<th scope="col">Lines<th scope="col">Visitors now<th scope="col">Refused<th scope="col">This month</tr></thead><tbody>${rows.join('')}</tbody></table></html>
`;
}
