import { escape, page } from './page.js';
import { VANTAGES } from './wiring.js';
import type { World } from './world.js';

const FAULT_WORDS: Record<string, string> = {
  'names.silent': 'name server silent',
  'names.failing': 'name server failing',
  'router.noPmp': 'no NAT-PMP',
  'router.noPcp': 'no PCP',
  'router.noUpnp': 'no UPnP',
  'router.carrierGrade': 'carrier-grade line address',
  'router.doubleNat': 'double NAT',
  'router.noLoopback': 'no loopback of mappings',
  'router.portTaken': 'port taken by another device',
  'router.firewall': 'firewall closed',
  'router.slowMs': 'slow, in ms',
  'router.lossPercent': 'lost connections, in %',
  'authority.failValidation': 'validation fails',
  'authority.rateLimited': 'orders limited',
  'authority.badNonceOnce': 'forgets a nonce once',
  'authority.callsBack': 'wants every certificate renewed',
  'authority.down': 'authority out of order',
  'stun.silent': 'STUN silent',
  'relay.down': 'relay out of order',
  'directory.slowMs': 'directory slow, in ms',
  'directory.onlyFirst': 'directory gives only so many entries',
  'directory.silent': 'directory silent',
  'identity.down': 'identity provider out of order',
  'line.changed': 'line has another address',
};

/** What the outside world is made of, how it stands, and its fault switches. */
export function worldPage(world: World, mails: number, texts: number): string {
  const { places, faults, records, mappings, certificates, relayed } = world.state();
  const services = [
    ['Name server', `127.0.0.1 port ${places.names}, UDP and TCP`, 'dig, nsupdate'],
    [
      'Name servers of the office and the guest network',
      `127.0.0.1 ports ${places.officeNames} and ${places.guestNames}, UDP and TCP`,
      'dig, nsupdate',
    ],
    [
      'Probes',
      `outside, guest Wi-Fi, remote tunnel: 127.0.0.1 ports ${places.probes.outside}, ${places.probes.guest}, ${places.probes.tunnel}; or on the page of probes`,
      'a browser, curl',
    ],
    [
      'Router',
      `NAT-PMP and PCP at ${places.gateway} port ${places.pmp}; UPnP at http://${places.gateway}:${places.upnp}/rootDesc.xml; public side ${places.publicSide}, external port + ${places.publicOffset}`,
      'natpmpc, upnpc',
    ],
    ['Certificate authority', `http://127.0.0.1:${places.authority}/directory`, 'any ACME client'],
    [
      'Relay',
      `for visitors: 127.0.0.1 port ${places.relay.tls}; lines of servers: port ${places.relay.line}. ${relayed.names.length ? `Serves ${relayed.names.join(', ')}; ${relayed.bytes} bytes passed.` : 'Nobody keeps a line.'}`,
      'curl --connect-to',
    ],
    [
      'Directory',
      `127.0.0.1 port ${places.directory}, LDAPS; to the office 192.168.20.15 port 636; read as CN=Quay,OU=Services,dc=saltmarsh,dc=example with ferry-lamp-osier-71`,
      'ldapsearch',
    ],
    [
      'Identity provider',
      `http://127.0.0.1:${places.identity}, client lockfast-quay, secret osier-ferry-lamp-82`,
      'a browser',
    ],
    ['STUN responder', `127.0.0.1 port ${places.stun}, UDP`, 'any STUN client'],
  ];
  const inputs = Object.entries(faults).map(([name, value]) =>
    typeof value === 'number'
      ? `<label>${escape(FAULT_WORDS[name] ?? name)} <input name="${name}" type="number" min="0" max="60000" value="${value}" size="5"></label>`
      : `<label><input type="checkbox" name="${name}"${value ? ' checked' : ''}> ${escape(FAULT_WORDS[name] ?? name)}</label>`,
  );
  return page(
    'Outside world',
    `<h1>Outside world</h1><p>Simulated services for demo and tests, each speaking its real protocol on loopback. <a href="/mail">Mail that was sent</a> (${mails}). <a href="/texts">Text messages</a> (${texts}). <a href="/probes">Probes</a>. <a href="/site">A web page of the office</a>, to show an intake in.</p>
<table><thead><tr><th>Service</th><th>Where</th><th>Try it with</th></tr></thead><tbody>${services.map((r) => `<tr>${r.map((c) => `<td>${escape(c as string)}</td>`).join('')}</tr>`).join('')}</tbody></table>
<h2>Faults</h2><form class="faults" method="post" action="/faults">${inputs.join('')}<button>Set</button></form>
<h2>Names</h2>${rows(
      ['Network', 'Name', 'Type', 'TTL', 'Value'],
      records.map((r) => [r.network, r.name, r.type, String(r.ttl), r.value]),
      'No records.',
    )}
<h2>Mappings</h2>${rows(
      ['External', 'Inside', 'Lease', 'By'],
      mappings.map((m) => [
        `${m.protocol} ${m.external}`,
        m.to,
        m.secondsLeft === null ? 'none' : `${m.secondsLeft} s`,
        m.by,
      ]),
      'Nothing is mapped.',
    )}
<h2>Certificates</h2>${rows(
      ['Names', 'Issued', 'Ends'],
      certificates.map((c) => [c.names.join(', '), c.at, c.notAfter]),
      'None was issued yet.',
    )}`,
  );
}

/** A page from which requests are made from each network. */
export function probesPage(from: string, url: string, lines: readonly string[] | null): string {
  const options = VANTAGES.map((v) => `<option${v === from ? ' selected' : ''}>${v}</option>`).join('');
  return page(
    'Probes',
    `<h1>Probes</h1><p>Real requests from networks of the simulated world, each with its own name server and way. <a href="/">Outside world</a></p>
<form method="get" action="/probes"><label>From <select name="from">${options}</select></label> <label>Address <input name="url" size="50" value="${escape(url)}"></label> <button>Ask</button></form>
${lines ? `<pre>${escape(lines.join('\n'))}</pre>` : ''}`,
  );
}

function rows(head: string[], body: string[][], none: string): string {
  if (body.length === 0) return `<p>${none}</p>`;
  return `<table><thead><tr>${head.map((h) => `<th>${h}</th>`).join('')}</tr></thead><tbody>${body.map((r) => `<tr>${r.map((c) => `<td>${escape(c)}</td>`).join('')}</tr>`).join('')}</tbody></table>`;
}
