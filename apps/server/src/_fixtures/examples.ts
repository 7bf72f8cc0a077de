import { invitationText } from '@quay/relay';
import type { IntakeSheet, ShareSheet } from '@quay/contract';
import { DIRECTORY_SCHEMAS, NO_GUARDRAILS } from '@quay/core';
import { randomBytes, randomUUID } from 'node:crypto';
import { dirname, join } from 'node:path';
import { PNG } from 'pngjs';
import { folder, storeOf } from './acts.js';
import { askForFiles, handIn, intakeAsked, NO_ANSWERS, outsider, sendFile } from './intakes.js';
import type { Client, TestOffice } from './office.js';

/** Things that a request can name, all in one store, made anew for each request that uses them up. */
export interface Things {
  storeId: string;
  folder: string;
  file: string;
  /** A file in the trash. */
  trashed: string;
  person: string;
  group: string;
  dutySet: string;
  /** Of that person, on the folder; in a home there can be none, and this is one that has ended. */
  grant: string;
  address: string;
  tag: string;
  task: string;
  /** A place for backups. */
  place: string;
  /** A folder that nothing lies in. */
  emptyFolder: string;
  share: ShareSheet & { token: string };
  /** A complete upload whose name was taken. */
  upload: string;
  intake: IntakeSheet & { token: string };
  /** Something that waits, its file, and its receipt. */
  deposit: { id: string; file: string; receipt: string };
  at: string;
}

export interface Example {
  path: string;
  body?: object;
  raw?: Buffer;
  headers?: Record<string, string>;
  /** The answer goes on (events): it is not read. */
  endless?: boolean;
  /** Answers that are no success and yet show that who asks may. */
  also?: number[];
}

const share = (t: Things) => ({
  title: 'Example',
  nodeIds: [t.file],
  window: { opensAt: null, closesAt: null },
  password: null,
  visitLimit: null,
});
const address = { wayIn: 'office', scheme: 'http', host: `${randomUUID().slice(0, 8)}.example`, uses: 'sign-in' };
/** What asks other machines finds none in a test, and says so. */
const ELSEWHERE = [400, 404, 409, 503];

/** Where nothing listens. */
const TEXT_GATEWAY = {
  ...{ url: 'http://127.0.0.1:9/send', format: 'form', headers: [], secret: 'weir' },
  fields: [
    { name: 'to', value: '{to}' },
    { name: 'text', value: '{text}' },
  ],
};
const MAIL_SERVER = { host: '127.0.0.1', port: 9, encryption: 'none', sender: 'quay@saltmarsh.example' };

/** A directory where nothing answers. */
const DIRECTORY = {
  ...{ servers: [{ host: '127.0.0.1', port: 9 }], encryption: 'ldaps', roots: '', preset: 'person' },
  ...{ bindDn: 'cn=quay,dc=saltmarsh,dc=example', bindPassword: 'weir', base: 'dc=saltmarsh,dc=example' },
  ...{ schema: DIRECTORY_SCHEMAS.person, branches: [], awayDays: 0 },
};
/** A provider that does not answer. */
const PROVIDER = {
  ...{ name: 'Saltmarsh', issuer: 'http://127.0.0.1:9', clientId: 'quay', clientSecret: 'weir' },
  ...{ origin: 'https://files.saltmarsh.example', makesAccounts: false, domains: [], groupsClaim: '', groups: [] },
};
const SECURITY = { sessionDays: 30, leastStrength: 3, factorWanted: 'nobody', signInOutside: 'everybody' };
/** A PNG of one pixel, in base64, as pngjs writes it. */
const DOT_PNG = PNG.sync.write(new PNG({ width: 1, height: 1 })).toString('base64');
const TEMPLATE = {
  office: false,
  terms: {
    ...{ message: '', audience: { kind: 'anyone', listed: [], blocked: [], members: [] }, password: true },
    ...{ window: { preset: '1-week' }, visitLimit: null, removesFiles: false },
  },
};
const WRONG_CODE = { body: { code: '000000' }, also: [400, 409] };
const BACKUPS = {
  ...{ every: 'week', atMinute: 0, weekday: 1, days: 7, weeks: 5, months: 12 },
  ...{ recipients: [], rehearse: 'never' },
};

/** A request for every route of the server, which succeeds for whoever may make it. */
export const EXAMPLES: Record<string, (t: Things) => Example> = {
  ...Object.fromEntries(
    [
      ...['GET ', 'POST /code', 'POST /code/new', 'PUT /office', 'PUT /you', 'GET /places', 'POST /places'],
      ...['PUT /place', 'PUT /stores', 'PUT /mail', 'POST /mail/trial', 'PUT /way-in', 'POST /finish'],
    ].map((route) => {
      const [method, path] = route.split(' ');
      // Judged before it is looked at, or not there any more.
      return [
        `${method} /api/setup${path}`,
        () => ({ path: `/api/setup${path}`, ...(method !== 'GET' && { body: {} }), also: [400, 404] }),
      ];
    }),
  ),
  'GET /api/settings/office': () => ({ path: '/api/settings/office' }),
  'PUT /api/settings/office': () => ({
    path: '/api/settings/office',
    body: { name: 'Saltmarsh Survey', zone: 'Europe/London', homes: true, words: '' },
  }),
  'GET /api/people': () => ({ path: '/api/people' }),
  'POST /api/people': () => ({
    path: '/api/people',
    body: { name: 'Zoe', signInName: `z${randomUUID().slice(0, 8)}`, email: 'z@brookline.example', by: 'link' },
  }),
  'POST /api/people/import': () => ({
    path: '/api/people/import',
    body: {
      rows: [{ line: 2, name: 'Bo', email: 'bo@saltmarsh.example', signInName: 'bo', groups: [] }],
      ...{ mail: false, makeGroups: false, keep: false },
    },
  }),
  'POST /api/people/acts': (t) => ({ path: '/api/people/acts', body: { act: 'enable', personIds: [t.person] } }),
  'GET /api/people/:id': (t) => ({ path: `/api/people/${t.person}` }),
  'GET /api/people/:id/then': (t) => ({ path: `/api/people/${t.person}/then?at=2026-01-01T00:00:00Z` }),
  'GET /api/people/:id/seen': (t) => ({ path: `/api/people/${t.person}/seen` }),
  'GET /api/people/:id/seen/folders/:folderId': (t) => ({
    path: `/api/people/${t.person}/seen/folders/${t.folder}`,
    also: [404],
  }),
  'GET /api/people/:id/seen/shares/:shareId': (t) => ({
    path: `/api/people/${t.person}/seen/shares/${t.share.id}`,
    also: [404],
  }),
  'PATCH /api/people/:id': (t) => ({ path: `/api/people/${t.person}`, body: { name: 'Somebody else' } }),
  'POST /api/people/:id/invitation': (t) => ({
    path: `/api/people/${t.person}/invitation`,
    body: { by: 'link' },
    also: [409],
  }),
  'GET /api/people/:id/leaving': (t) => ({ path: `/api/people/${t.person}/leaving` }),
  'POST /api/people/:id/leaving': (t) => ({ path: `/api/people/${t.person}/leaving`, body: {}, also: [409] }),
  'DELETE /api/people/:id/leaving': (t) => ({ path: `/api/people/${t.person}/leaving`, also: [404] }),
  'DELETE /api/session/factor/browsers': () => ({ path: '/api/session/factor/browsers' }),
  'GET /api/sign-in': () => ({ path: '/api/sign-in' }),
  'GET /api/sign-in/provider': () => ({ path: '/api/sign-in/provider', also: [302] }),
  'GET /api/sign-in/provider/callback': () => ({ path: '/api/sign-in/provider/callback', also: [302] }),
  'GET /api/sign-in/provider/out': () => ({ path: '/api/sign-in/provider/out', also: [302] }),
  'POST /api/sign-in/provider/code': () => ({
    path: '/api/sign-in/provider/code',
    body: { code: '123456' },
    also: [410],
  }),
  'GET /api/settings/provider': () => ({ path: '/api/settings/provider' }),
  'PUT /api/settings/provider': () => ({ path: '/api/settings/provider', body: PROVIDER }),
  'DELETE /api/settings/provider': () => ({ path: '/api/settings/provider' }),
  'POST /api/settings/provider/trial': () => ({ path: '/api/settings/provider/trial', body: PROVIDER }),
  'GET /api/directory': () => ({ path: '/api/directory' }),
  'PUT /api/directory': () => ({ path: '/api/directory', body: DIRECTORY }),
  'DELETE /api/directory': () => ({ path: '/api/directory' }),
  'DELETE /api/directory/people/:id': (t) => ({ path: `/api/directory/people/${t.person}`, also: [409] }),
  'POST /api/directory/trial': () => ({ path: '/api/directory/trial', body: DIRECTORY }),
  'POST /api/directory/find': () => ({ path: '/api/directory/find', body: {}, also: ELSEWHERE }),
  'POST /api/directory/runs': () => ({ path: '/api/directory/runs', body: {}, also: ELSEWHERE }),
  'GET /api/directory/runs/:id': (t) => ({ path: `/api/directory/runs/${t.person}`, also: [404] }),
  'POST /api/directory/runs/:id': (t) => ({ path: `/api/directory/runs/${t.person}`, also: [404] }),
  'DELETE /api/directory/runs/:id': (t) => ({ path: `/api/directory/runs/${t.person}`, also: [404] }),
  'DELETE /api/people/:id/factor': (t) => ({ path: `/api/people/${t.person}/factor`, also: [409] }),
  // Into a folder that they may manage; who has the duty learns nothing of others.
  'POST /api/guests': () => ({
    path: '/api/guests',
    body: { name: 'Marek', email: 'm@brookline.example', folderId: randomUUID(), level: 'view', by: 'link' },
    also: [404],
  }),
  'POST /api/duty-sets': () => ({
    path: '/api/duty-sets',
    body: { name: randomUUID().slice(0, 8), duties: ['see-ledger'] },
  }),
  'PATCH /api/duty-sets/:id': (t) => ({ path: `/api/duty-sets/${t.dutySet}`, body: { duties: ['see-ledger'] } }),
  'DELETE /api/duty-sets/:id': (t) => ({ path: `/api/duty-sets/${t.dutySet}` }),
  'GET /api/groups': () => ({ path: '/api/groups' }),
  'POST /api/groups': () => ({ path: '/api/groups', body: { name: randomUUID().slice(0, 8) } }),
  'PATCH /api/groups/:id': (t) => ({ path: `/api/groups/${t.group}`, body: { name: t.group } }),
  'DELETE /api/groups/:id': (t) => ({ path: `/api/groups/${t.group}` }),
  'PUT /api/groups/:id/managers': (t) => ({ path: `/api/groups/${t.group}/managers`, body: { personIds: [] } }),
  'POST /api/groups/:id/members': (t) => ({
    path: `/api/groups/${t.group}/members`,
    body: { kind: 'person', id: t.person },
  }),
  'DELETE /api/groups/:id/members/:kind/:memberId': (t) => ({
    path: `/api/groups/${t.group}/members/person/${t.person}`,
  }),
  'GET /api/access/table': () => ({ path: '/api/access/table' }),
  'GET /api/access/moments': () => ({ path: '/api/access/moments' }),
  'GET /api/access/shifts': () => ({ path: '/api/access/shifts?since=2026-01-02T00:00:00Z' }),
  'POST /api/access/questions': () => ({ path: '/api/access/questions', body: { text: 'what can Iris reach' } }),
  'POST /api/access/trials': (t) => ({
    path: '/api/access/trials',
    body: { end: { grantId: t.grant } },
    also: [404, 409, 410],
  }),
  'GET /api/backups': () => ({ path: '/api/backups' }),
  'POST /api/backups': (t) => ({
    path: '/api/backups',
    body: { ...BACKUPS, folder: `${t.emptyFolder}-${randomUUID()}` },
    also: [409],
  }),
  'POST /api/backups/look': (t) => ({ path: '/api/backups/look', body: { folder: t.emptyFolder } }),
  'PUT /api/backups/:id': (t) => ({ path: `/api/backups/${t.place}`, body: { ...BACKUPS, folder: t.emptyFolder } }),
  'DELETE /api/backups/:id': (t) => ({ path: `/api/backups/${t.place}` }),
  'GET /api/backups/:id/copies': (t) => ({ path: `/api/backups/${t.place}/copies` }),
  'POST /api/backups/:id/now': (t) => ({ path: `/api/backups/${t.place}/now` }),
  'POST /api/backups/:id/rehearse': (t) => ({ path: `/api/backups/${t.place}/rehearse` }),
  'GET /healthz': () => ({ path: '/healthz' }),
  'GET /readyz': () => ({ path: '/readyz' }),
  // Without the token there is nothing.
  'GET /metrics': () => ({ path: '/metrics', also: [404] }),
  'GET /api/health': () => ({ path: '/api/health' }),
  'PUT /api/settings/stores/order': () => ({ path: '/api/settings/stores/order', body: { storeIds: [] } }),
  'GET /api/settings/stores/:id/archive': (t) => ({ path: `/api/settings/stores/${t.storeId}/archive`, also: [404] }),
  'PUT /api/settings/stores/:id/archive': (t) => ({
    path: `/api/settings/stores/${t.storeId}/archive`,
    body: { archived: false },
    also: [404],
  }),
  'GET /api/settings/logo': () => ({ path: '/api/settings/logo' }),
  'PUT /api/settings/logo': () => ({ path: '/api/settings/logo', body: { png: DOT_PNG } }),
  'DELETE /api/settings/logo': () => ({ path: '/api/settings/logo' }),
  'GET /api/settings/shares': () => ({ path: '/api/settings/shares' }),
  'PUT /api/settings/shares': () => ({ path: '/api/settings/shares', body: { blocked: [] } }),
  'GET /api/settings/security': () => ({ path: '/api/settings/security' }),
  'PUT /api/settings/security': () => ({ path: '/api/settings/security', body: SECURITY }),
  'POST /api/settings/security/would-do': () => ({ path: '/api/settings/security/would-do', body: SECURITY }),
  'GET /api/settings/about': () => ({ path: '/api/settings/about' }),
  'GET /api/session/notices': () => ({ path: '/api/session/notices' }),
  'PUT /api/session/notices': () => ({ path: '/api/session/notices', body: { notices: ['share-closing'] } }),
  'GET /api/session/factor': () => ({ path: '/api/session/factor' }),
  'POST /api/session/factor': () => ({ path: '/api/session/factor', body: { password: 'no' }, also: [400] }),
  'POST /api/session/factor/decline': () => ({ path: '/api/session/factor/decline' }),
  'POST /api/session/factor/first-code': () => ({ path: '/api/session/factor/first-code', ...WRONG_CODE }),
  'POST /api/session/factor/recovery-codes': () => ({ path: '/api/session/factor/recovery-codes', ...WRONG_CODE }),
  'DELETE /api/session/factor': () => ({ path: '/api/session/factor', ...WRONG_CODE }),
  'GET /api/session/passkeys': () => ({ path: '/api/session/passkeys' }),
  // No device is at hand; a password that is wrong is told of.
  'POST /api/session/passkeys/begin': () => ({
    path: '/api/session/passkeys/begin',
    body: { password: 'no' },
    also: [400],
  }),
  'POST /api/session/passkeys': () => ({ path: '/api/session/passkeys', body: {}, also: [400] }),
  'DELETE /api/session/passkeys/:id': () => ({ path: '/api/session/passkeys/bm9uZQ', also: [404] }),
  'POST /api/session/passkeys/sign-in/begin': () => ({ path: '/api/session/passkeys/sign-in/begin', also: [409, 429] }),
  'POST /api/session/passkeys/sign-in': () => ({ path: '/api/session/passkeys/sign-in', body: {}, also: [400] }),
  'GET /api/session/all': () => ({ path: '/api/session/all' }),
  // Nobody else is to be signed out by this.
  'DELETE /api/session/all/:id': () => ({ path: `/api/session/all/${randomUUID()}`, also: [404] }),
  'DELETE /api/session/others': () => ({ path: '/api/session/others' }),
  'GET /api/settings/mail': () => ({ path: '/api/settings/mail' }),
  'PUT /api/settings/mail': () => ({ path: '/api/settings/mail', body: MAIL_SERVER }),
  'DELETE /api/settings/mail': () => ({ path: '/api/settings/mail' }),
  'POST /api/settings/mail/trial': () => ({
    path: '/api/settings/mail/trial',
    body: { ...MAIL_SERVER, to: 'iris@saltmarsh.example' },
    also: [429],
  }),
  'GET /api/settings/text-messages': () => ({ path: '/api/settings/text-messages' }),
  'PUT /api/settings/text-messages': () => ({ path: '/api/settings/text-messages', body: TEXT_GATEWAY }),
  'DELETE /api/settings/text-messages': () => ({ path: '/api/settings/text-messages' }),
  'POST /api/settings/text-messages/trial': () => ({
    path: '/api/settings/text-messages/trial',
    body: { ...TEXT_GATEWAY, to: '+44 7700 900123' },
    also: [429],
  }),
  'GET /api/settings/stores': () => ({ path: '/api/settings/stores' }),
  'POST /api/settings/stores': () => ({ path: '/api/settings/stores', body: { name: randomUUID().slice(0, 8) } }),
  'PATCH /api/settings/stores/:id': (t) => ({
    path: `/api/settings/stores/${t.storeId}`,
    body: { name: randomUUID().slice(0, 8) },
    // Homes are no common stores.
    also: [404],
  }),
  'GET /api/password-links/:token': () => ({ path: '/api/password-links/nothing', also: [410, 429] }),
  'POST /api/password-links/:token': () => ({
    path: '/api/password-links/nothing',
    body: { password: 'weir-lantern-copper-tide' },
    also: [410, 429],
  }),
  'GET /api/office/left': () => ({ path: '/api/office/left' }),
  'GET /api/import/browse': () => ({ path: '/api/import/browse' }),
  'POST /api/import': (t) => ({ path: '/api/import', body: { path: '/nowhere', folderId: t.folder }, also: [403] }),
  'POST /api/export': (t) => ({ path: '/api/export', body: { storeId: t.storeId }, also: [409] }),
  'POST /api/scrub': () => ({ path: '/api/scrub' }),
  'GET /api/damaged': () => ({ path: '/api/damaged' }),
  'GET /api/tasks': () => ({ path: '/api/tasks' }),
  'POST /api/tasks/:id/stop': (t) => ({ path: `/api/tasks/${t.task}/stop` }),
  'GET /api/ledger': () => ({ path: '/api/ledger' }),
  'GET /api/ledger/chain': () => ({ path: '/api/ledger/chain' }),
  'GET /api/ledger/export': () => ({ path: '/api/ledger/export' }),
  'GET /api/events': () => ({ path: '/api/events', endless: true }),
  'POST /api/session': () => ({
    path: '/api/session',
    body: { signInName: 'nobody', password: 'x' },
    also: [401, 429],
  }),
  'GET /api/session': () => ({ path: '/api/session' }),
  'DELETE /api/session': () => ({ path: '/api/session' }),
  'PUT /api/session/password': () => ({
    path: '/api/session/password',
    body: { current: 'wrong', next: 'orchard-bramble-cistern' },
    also: [400],
  }),
  'GET /api/files/:id/preview': (t) => ({ path: `/api/files/${t.file}/preview` }),
  'GET /api/files/:id/thumb': (t) => ({ path: `/api/files/${t.file}/thumb`, also: [404] }),
  'GET /api/files/:id/large': (t) => ({ path: `/api/files/${t.file}/large`, also: [404] }),
  'GET /api/files/:id/pages/:page': (t) => ({ path: `/api/files/${t.file}/pages/1`, also: [404] }),
  'GET /api/files/:id/text': (t) => ({ path: `/api/files/${t.file}/text` }),
  'GET /api/shares': () => ({ path: '/api/shares' }),
  'GET /api/shares/today': () => ({
    path: '/api/shares/today?from=2026-11-17T00:00:00Z&to=2026-12-30T00:00:00Z',
  }),
  'POST /api/shares': (t) => ({ path: '/api/shares', body: share(t) }),
  'GET /api/shares/for-me': () => ({ path: '/api/shares/for-me' }),
  'GET /api/shares/:id': (t) => ({ path: `/api/shares/${t.share.id}` }),
  'PATCH /api/shares/:id': (t) => ({ path: `/api/shares/${t.share.id}`, body: { title: 'Another' } }),
  'GET /api/shares/of/:id': (t) => ({ path: `/api/shares/of/${t.file}` }),
  'GET /api/shares/:id/hand-overs': (t) => ({ path: `/api/shares/${t.share.id}/hand-overs` }),
  // The office of the tests has no mail server.
  'POST /api/shares/:id/hand-overs/mail': (t) => ({
    path: `/api/shares/${t.share.id}/hand-overs/mail`,
    body: { sendingId: t.share.id, to: ['lena@mill.example'], subject: '{{title}}', text: '{{link}}' },
    also: [409],
  }),
  'POST /api/shares/:id/hand-overs': (t) => ({
    path: `/api/shares/${t.share.id}/hand-overs`,
    body: { what: 'link', channel: 'telephone', to: ['Lena'] },
  }),
  'POST /api/shares/:id/hand-overs/text': (t) => ({
    path: `/api/shares/${t.share.id}/hand-overs/text`,
    body: { sendingId: t.share.id, to: ['+447700900123'], what: 'link' },
    also: [409],
  }),
  'GET /api/shares/:id/hand-overs/sheet.pdf': (t) => ({ path: `/api/shares/${t.share.id}/hand-overs/sheet.pdf` }),
  'PATCH /api/shares/:id/hand-overs/:handOverId': (t) => ({
    path: `/api/shares/${t.share.id}/hand-overs/${t.share.id}`,
    body: { settled: true },
    also: [404],
  }),
  'GET /api/hand-overs/needing': () => ({ path: '/api/hand-overs/needing' }),
  'GET /api/hand-overs/recipients': () => ({ path: '/api/hand-overs/recipients' }),
  'POST /api/hand-overs/recipients/forget': () => ({
    path: '/api/hand-overs/recipients/forget',
    body: { recipient: 'lena@mill.example' },
  }),
  'GET /api/message-templates': () => ({ path: '/api/message-templates' }),
  'POST /api/message-templates': () => ({
    path: '/api/message-templates',
    body: { name: `Plain ${randomUUID()}`, subject: '{{title}}', text: '{{link}}', office: false },
  }),
  'PUT /api/message-templates/:id': (t) => ({
    path: `/api/message-templates/${t.share.id}`,
    body: { name: 'Plain', subject: '{{title}}', text: '{{link}}', office: false },
    also: [404],
  }),
  'DELETE /api/message-templates/:id': (t) => ({ path: `/api/message-templates/${t.share.id}`, also: [404] }),
  'GET /api/settings/mail-returns': () => ({ path: '/api/settings/mail-returns' }),
  // Nothing answers there.
  'PUT /api/settings/mail-returns': () => ({
    path: '/api/settings/mail-returns',
    body: { host: 'localhost', port: 9, encryption: 'tls', user: 'quay', password: 'oar', folder: 'INBOX' },
    also: [409],
  }),
  'DELETE /api/settings/mail-returns': () => ({ path: '/api/settings/mail-returns' }),
  'GET /api/shares/view': () => ({ path: '/api/shares/view' }),
  'PUT /api/shares/view': () => ({ path: '/api/shares/view', body: { columns: ['guards'], filters: [] } }),
  'GET /api/shares/tidy': () => ({ path: '/api/shares/tidy' }),
  'POST /api/shares/tidy': () => ({ path: '/api/shares/tidy', body: { kinds: ['closed'] } }),
  'GET /api/shares/recipients': () => ({ path: '/api/shares/recipients' }),
  'POST /api/shares/seen': (t) => ({ path: '/api/shares/seen', body: { at: null, share: share(t) } }),
  'POST /api/shares/:id/seen': (t) => ({ path: `/api/shares/${t.share.id}/seen`, body: { at: null } }),
  'GET /api/visitor-page': () => ({ path: '/api/visitor-page?language=de', also: [404] }),
  'GET /api/visitor-page/languages': () => ({ path: '/api/visitor-page/languages' }),
  'POST /api/shares/marks': (t) => ({ path: '/api/shares/marks', body: { nodeIds: [t.file] } }),
  'GET /api/calendar': () => ({ path: '/api/calendar' }),
  'POST /api/calendar': () => ({ path: '/api/calendar' }),
  'DELETE /api/calendar': () => ({ path: '/api/calendar' }),
  'GET /calendar/:token': () => ({ path: '/calendar/none.ics', also: [404, 429] }),
  'GET /api/templates': () => ({ path: '/api/templates' }),
  'POST /api/templates': () => ({ path: '/api/templates', body: { ...TEMPLATE, name: `Tender ${randomUUID()}` } }),
  'DELETE /api/templates/:id': () => ({ path: `/api/templates/${randomUUID()}`, also: [404] }),
  'GET /api/outgoing': () => ({ path: '/api/outgoing' }),
  // Whoever has no home has none of these.
  'POST /api/outgoing': () => ({ path: '/api/outgoing', body: { name: 'Dropped' }, also: [409] }),
  'GET /api/shares/:id/came': (t) => ({ path: `/api/shares/${t.share.id}/came` }),
  'GET /api/shares/:id/visits.csv': (t) => ({ path: `/api/shares/${t.share.id}/visits.csv` }),
  'GET /api/guardrails': () => ({ path: '/api/guardrails' }),
  'POST /api/guardrails/for': (t) => ({ path: '/api/guardrails/for', body: { nodeIds: [t.file] } }),
  'POST /api/guardrails/:of/trial': () => ({ path: '/api/guardrails/office/trial', body: NO_GUARDRAILS }),
  'PUT /api/guardrails/:of': () => ({ path: '/api/guardrails/office', body: NO_GUARDRAILS }),
  'POST /api/shares/using': (t) => ({ path: '/api/shares/using', body: { nodeIds: [t.file] } }),
  'POST /api/shares/stays': (t) => ({ path: '/api/shares/stays', body: { nodeIds: [t.file] } }),
  'POST /api/shares/affected': (t) => ({ path: '/api/shares/affected', body: { nodeIds: [t.file] } }),
  'GET /api/stores': () => ({ path: '/api/stores' }),
  'GET /api/folders/:id': (t) => ({ path: `/api/folders/${t.folder}` }),
  'POST /api/folders/:id/folders': (t) => ({ path: `/api/folders/${t.folder}/folders`, body: { name: randomUUID() } }),
  'POST /api/sizes': (t) => ({ path: '/api/sizes', body: { nodeIds: [t.folder] } }),
  'GET /api/nodes/:id': (t) => ({ path: `/api/nodes/${t.file}` }),
  'PATCH /api/nodes/:id': (t) => ({ path: `/api/nodes/${t.file}`, body: { name: 'renamed.txt' } }),
  'POST /api/nodes/move': (t) => ({ path: '/api/nodes/move', body: { nodeIds: [t.file], toFolderId: t.folder } }),
  'POST /api/nodes/copy': (t) => ({ path: '/api/nodes/copy', body: { nodeIds: [t.file], toFolderId: t.folder } }),
  'GET /api/find': () => ({ path: '/api/find?text=example' }),
  'GET /api/recent': () => ({ path: '/api/recent' }),
  'GET /api/pins': () => ({ path: '/api/pins' }),
  'GET /api/stores/:id/trash': (t) => ({ path: `/api/stores/${t.storeId}/trash` }),
  'POST /api/trash': (t) => ({ path: '/api/trash', body: { nodeIds: [t.file] } }),
  'POST /api/trash/put-back': (t) => ({ path: '/api/trash/put-back', body: { nodeIds: [t.trashed] } }),
  'POST /api/trash/purge': (t) => ({ path: '/api/trash/purge', body: { nodeIds: [t.trashed] } }),
  'GET /api/files/:id/versions': (t) => ({ path: `/api/files/${t.file}/versions` }),
  'POST /api/files/:id/versions/:version/restore': (t) => ({ path: `/api/files/${t.file}/versions/1/restore` }),
  'PATCH /api/files/:id/versions/:version': (t) => ({ path: `/api/files/${t.file}/versions/1`, body: { kept: false } }),
  'GET /api/folders/:id/past': (t) => ({ path: `/api/folders/${t.folder}/past?at=${t.at}` }),
  'POST /api/folders/:id/restore': (t) => ({
    path: `/api/folders/${t.folder}/restore`,
    body: { at: t.at, nodeIds: null },
  }),
  'GET /api/tags': () => ({ path: '/api/tags' }),
  'POST /api/tags': () => ({ path: '/api/tags', body: { name: randomUUID().slice(0, 20), colour: 'tide' } }),
  'PATCH /api/tags/:id': (t) => ({ path: `/api/tags/${t.tag}`, body: { colour: 'ink' } }),
  'DELETE /api/tags/:id': () => ({ path: `/api/tags/${randomUUID()}` }),
  'POST /api/nodes/tags': (t) => ({ path: '/api/nodes/tags', body: { nodeIds: [t.file], tagId: t.tag, on: true } }),
  'POST /api/pins': (t) => ({ path: '/api/pins', body: { nodeIds: [t.file], on: true } }),
  'GET /api/stores/:id/usage': (t) => ({ path: `/api/stores/${t.storeId}/usage` }),
  'PATCH /api/stores/:id': (t) => ({ path: `/api/stores/${t.storeId}`, body: { trashDays: 30 } }),
  'GET /api/stores/:id/policy-effect': (t) => ({
    path: `/api/stores/${t.storeId}/policy-effect?versionsKept=3&thinAfterDays=30`,
  }),
  'GET /api/stores/:id/litter': (t) => ({ path: `/api/stores/${t.storeId}/litter` }),
  'GET /api/quotas': () => ({ path: '/api/quotas' }),
  'GET /api/quotas/mine': () => ({ path: '/api/quotas/mine' }),
  'GET /api/colleagues': () => ({ path: '/api/colleagues' }),
  'PUT /api/quotas/:id': (t) => ({ path: `/api/quotas/${t.person}`, body: { quotaBytes: null } }),
  'PUT /api/folders/:id/files': (t) => ({
    path: `/api/folders/${t.folder}/files?name=${randomUUID()}.txt`,
    raw: Buffer.from('x'),
  }),
  'POST /api/folders/:id/check-files': (t) => ({
    path: `/api/folders/${t.folder}/check-files`,
    body: { files: [{ name: 'a.txt', sizeBytes: 1 }] },
  }),
  'PUT /api/folders/:id/batch': (t) => ({
    path: `/api/folders/${t.folder}/batch?batchId=${randomUUID()}`,
    raw: Buffer.alloc(1024),
    // Whoever may is told that there is nothing in it.
    also: [400],
  }),
  'GET /api/uploads': () => ({ path: '/api/uploads' }),
  'GET /api/uploads/:id': (t) => ({ path: `/api/uploads/${t.upload}` }),
  'POST /api/uploads/:id/finish': (t) => ({
    path: `/api/uploads/${t.upload}/finish`,
    body: { conflict: 'keep-both' },
    also: [409],
  }),
  'GET /api/files/:id/content': (t) => ({ path: `/api/files/${t.file}/content` }),
  'GET /api/archive': (t) => ({ path: `/api/archive?ids=${t.folder}` }),
  'GET /api/intakes': () => ({ path: '/api/intakes' }),
  'POST /api/intakes': (t) => ({ path: '/api/intakes', body: intakeAsked(t.folder) }),
  'GET /api/intakes/:id': (t) => ({ path: `/api/intakes/${t.intake.id}` }),
  'PATCH /api/intakes/:id': (t) => ({ path: `/api/intakes/${t.intake.id}`, body: { title: 'Example' } }),
  'POST /api/intakes/:id/remind': (t) => ({ path: `/api/intakes/${t.intake.id}/remind`, also: [409] }),
  'GET /api/deposits/:id': (t) => ({ path: `/api/deposits/${t.deposit.id}` }),
  'GET /api/deposits/:id/files/:fileId/content': (t) => ({
    path: `/api/deposits/${t.deposit.id}/files/${t.deposit.file}/content`,
    // Whoever may is told that something was decided about it by then.
    also: [410],
  }),
  // No picture can be made of it, or something was decided about it by then.
  ...Object.fromEntries(
    ['preview', 'thumb', 'large', 'text', 'pages/:page'].map((what) => [
      `GET /api/deposits/:id/files/:fileId/${what}`,
      (t: Things) => ({
        path: `/api/deposits/${t.deposit.id}/files/${t.deposit.file}/${what.replace(':page', '1')}`,
        also: [202, 404, 410],
      }),
    ]),
  ),
  'POST /api/deposits/:id/ask': (t) => ({
    ...{ path: `/api/deposits/${t.deposit.id}/ask`, body: { words: 'Sheet 3 again, please.' }, also: [409] },
  }),
  'POST /api/deposits/:id/accept': (t) => ({
    ...{ path: `/api/deposits/${t.deposit.id}/accept`, body: {}, also: [409] },
  }),
  'POST /api/deposits/:id/refuse': (t) => ({
    ...{ path: `/api/deposits/${t.deposit.id}/refuse`, body: { reason: 'Not ours.' }, also: [409] },
  }),
  'GET /h/:token': (t) => ({ path: `/h/${t.intake.token}` }),
  'GET /h/:token/embed': (t) => ({ path: `/h/${t.intake.token}/embed` }),
  'GET /h/:token/plain': (t) => ({ path: `/h/${t.intake.token}/plain` }),
  'POST /h/:token/plain': (t) => ({ path: `/h/${t.intake.token}/plain`, body: { password: null }, also: [303] }),
  // Nothing is brought; whoever has not begun is told so.
  'POST /h/:token/plain/files': (t) => ({ path: `/h/${t.intake.token}/plain/files`, also: [400] }),
  'POST /h/:token/plain/take-back': (t) => ({
    ...{ path: `/h/${t.intake.token}/plain/take-back`, body: { id: t.deposit.file }, also: [401, 404] },
  }),
  'POST /h/:token/plain/hand-in': (t) => ({
    ...{ path: `/h/${t.intake.token}/plain/hand-in`, body: {}, also: [400, 401] },
  }),
  'GET /h/:token/door': (t) => ({ path: `/h/${t.intake.token}/door` }),
  'POST /h/:token/begin': (t) => ({ path: `/h/${t.intake.token}/begin`, body: { password: null } }),
  'POST /h/:token/code': (t) => ({
    ...{ path: `/h/${t.intake.token}/code`, body: { address: 'zoe@brookline.example' }, also: [409] },
  }),
  'GET /h/:token/logo': (t) => ({ path: `/h/${t.intake.token}/logo`, also: [404] }),
  // Whoever has not begun is told so.
  'POST /h/:token/uploads': (t) => ({
    ...{ path: `/h/${t.intake.token}/uploads`, also: [401] },
    headers: {
      'Tus-Resumable': '1.0.0',
      'Upload-Length': '1',
      'Upload-Metadata': `name ${Buffer.from('a.txt').toString('base64')}`,
    },
  }),
  'HEAD /h/:token/uploads/:id': (t) => ({
    ...{
      path: `/h/${t.intake.token}/uploads/${randomUUID()}`,
      headers: { 'Tus-Resumable': '1.0.0' },
      also: [401, 404],
    },
  }),
  'PATCH /h/:token/uploads/:id': (t) => ({
    ...{ path: `/h/${t.intake.token}/uploads/${randomUUID()}`, raw: Buffer.from('x'), also: [401, 404] },
    headers: {
      ...{ 'Tus-Resumable': '1.0.0', 'Upload-Offset': '0', 'Content-Type': 'application/offset+octet-stream' },
    },
  }),
  'DELETE /h/:token/uploads/:id': (t) => ({
    ...{
      path: `/h/${t.intake.token}/uploads/${randomUUID()}`,
      headers: { 'Tus-Resumable': '1.0.0' },
      also: [401, 404],
    },
  }),
  'POST /h/:token/hand-in': (t) => ({ path: `/h/${t.intake.token}/hand-in`, body: NO_ANSWERS, also: [401] }),
  'GET /h/:token/receipt/:key': (t) => ({ path: `/h/${t.intake.token}/${t.deposit.receipt}` }),
  'GET /h/:token/receipt/:key/SHA256SUMS': (t) => ({ path: `/h/${t.intake.token}/${t.deposit.receipt}/SHA256SUMS` }),
  'GET /s/:token': (t) => ({ path: `/s/${t.share.token}` }),
  'GET /s/:token/plain': (t) => ({ path: `/s/${t.share.token}/plain` }),
  'POST /s/:token/plain': (t) => ({ path: `/s/${t.share.token}/plain` }),
  'GET /s/:token/logo': (t) => ({ path: `/s/${t.share.token}/logo`, also: [404] }),
  'GET /s/:token/door': (t) => ({ path: `/s/${t.share.token}/door` }),
  'POST /s/:token/open': (t) => ({ path: `/s/${t.share.token}/open`, body: { password: null } }),
  'POST /s/:token/code': (t) => ({
    path: `/s/${t.share.token}/code`,
    body: { address: 'm.hale@fenway.example', password: null },
    also: [409],
  }),
  'POST /s/:token/uploads': (t) => ({
    path: `/s/${t.share.token}/uploads`,
    headers: { 'Tus-Resumable': '1.0.0', 'Upload-Length': '1', 'Upload-Metadata': 'name eA==' },
    // This share takes nothing in; the protocol judges its own.
    also: [400, 403],
  }),
  'HEAD /s/:token/uploads/:id': (t) => ({
    ...{ path: `/s/${t.share.token}/uploads/${randomUUID()}`, headers: { 'Tus-Resumable': '1.0.0' }, also: [404] },
  }),
  'GET /s/:token/uploads/:id': (t) => ({ path: `/s/${t.share.token}/uploads/${randomUUID()}`, also: [404] }),
  'PATCH /s/:token/uploads/:id': (t) => ({
    path: `/s/${t.share.token}/uploads/${randomUUID()}`,
    headers: {
      ...{ 'Tus-Resumable': '1.0.0', 'Upload-Offset': '0', 'Content-Type': 'application/offset+octet-stream' },
    },
    raw: Buffer.from('x'),
    also: [400, 404],
  }),
  'DELETE /s/:token/uploads/:id': (t) => ({
    ...{ path: `/s/${t.share.token}/uploads/${randomUUID()}`, headers: { 'Tus-Resumable': '1.0.0' }, also: [404] },
  }),
  'POST /s/:token/uploads/:id/finish': (t) => ({
    path: `/s/${t.share.token}/uploads/${randomUUID()}/finish`,
    body: { conflict: 'keep-both' },
    also: [404],
  }),
  'DELETE /s/:token/files/:id': (t) => ({ path: `/s/${t.share.token}/files/${randomUUID()}`, also: [404] }),
  'GET /s/:token/files/:id': (t) => ({ path: `/s/${t.share.token}/files/${t.file}` }),
  'GET /s/:token/files/:id/look': (t) => ({ path: `/s/${t.share.token}/files/${t.file}/look` }),
  'GET /s/:token/files/:id/thumb': (t) => ({ path: `/s/${t.share.token}/files/${t.file}/thumb`, also: [404] }),
  'GET /s/:token/files/:id/large': (t) => ({ path: `/s/${t.share.token}/files/${t.file}/large`, also: [404] }),
  'GET /s/:token/files/:id/pages/:page': (t) => ({
    path: `/s/${t.share.token}/files/${t.file}/pages/1`,
    also: [404],
  }),
  'GET /s/:token/files/:id/text': (t) => ({ path: `/s/${t.share.token}/files/${t.file}/text` }),
  'POST /s/:token/copies': (t) => ({ path: `/s/${t.share.token}/copies`, body: {} }),
  'GET /s/:token/SHA256SUMS': (t) => ({ path: `/s/${t.share.token}/SHA256SUMS` }),
  'GET /s/:token/all.zip': (t) => ({ path: `/s/${t.share.token}/all.zip` }),
  'GET /s/:token/events': (t) => ({ path: `/s/${t.share.token}/events`, endless: true }),
  'GET /api/reach/addresses': () => ({ path: '/api/reach/addresses' }),
  'POST /api/reach/addresses': () => ({
    path: '/api/reach/addresses',
    body: { ...address, host: `${randomUUID().slice(0, 8)}.example` },
  }),
  'GET /api/reach/addresses/:id': (t) => ({ path: `/api/reach/addresses/${t.address}`, also: ELSEWHERE }),
  'PATCH /api/reach/addresses/:id': (t) => ({ path: `/api/reach/addresses/${t.address}`, body: { hsts: false } }),
  'DELETE /api/reach/addresses/:id': () => ({ path: `/api/reach/addresses/${randomUUID()}`, also: [404] }),
  'GET /api/reach/addresses/:id/links': (t) => ({ path: `/api/reach/addresses/${t.address}/links` }),
  'POST /api/reach/addresses/:id/links/move': (t) => ({
    path: `/api/reach/addresses/${t.address}/links/move`,
    body: { to: t.address },
    also: [400],
  }),
  'POST /api/reach/addresses/:id/check': () => ({ path: `/api/reach/addresses/${randomUUID()}/check`, also: [404] }),
  'POST /api/reach/addresses/:id/remedies/:vantage': (t) => ({
    path: `/api/reach/addresses/${t.address}/remedies/office`,
    body: { act: 'use-relay' },
    also: ELSEWHERE,
  }),
  'POST /api/reach/addresses/:id/guide': () => ({
    path: `/api/reach/addresses/${randomUUID()}/guide`,
    body: { step: 'record', how: 'hand' },
    also: [404],
  }),
  'PUT /api/reach/addresses/:id/certificate': (t) => ({
    path: `/api/reach/addresses/${t.address}/certificate`,
    body: { chain: 'x', key: 'y' },
    also: [400],
  }),
  'GET /api/reach/addresses/:id/exposure': (t) => ({
    path: `/api/reach/addresses/${t.address}/exposure`,
    also: ELSEWHERE,
  }),
  'POST /api/reach/addresses/:id/telephone': (t) => ({ path: `/api/reach/addresses/${t.address}/telephone` }),
  'GET /api/reach/addresses/:id/telephone': (t) => ({ path: `/api/reach/addresses/${t.address}/telephone` }),
  'GET /api/reach/network': () => ({ path: '/api/reach/network' }),
  'GET /api/reach/probe.js': () => ({ path: '/api/reach/probe.js' }),
  'PUT /api/reach/name-servers/:network': () => ({
    path: '/api/reach/name-servers/guest',
    body: { address: '192.168.40.1', zone: 'example', keyName: 'k.example', secret: 'c2VjcmV0c2VjcmV0c2VjcmV0' },
  }),
  'PUT /api/reach/name-update': () => ({
    path: '/api/reach/name-update',
    body: {
      name: 'files.saltmarsh.example',
      url: 'https://dns.example/update?h={name}&a={ipv4}',
      user: 'u',
      secret: 's',
    },
  }),
  'DELETE /api/reach/name-update': () => ({ path: '/api/reach/name-update' }),
  'PUT /api/reach/network/:value': () => ({
    path: '/api/reach/network/resolvers',
    body: { value: ['192.168.20.1', '2001:db8:20::1'] },
  }),
  'DELETE /api/reach/network/:value': () => ({ path: '/api/reach/network/resolvers' }),
  // Nobody can call the office of the tests.
  'POST /api/reach/lookouts/code': () => ({ path: '/api/reach/lookouts/code', also: [409] }),
  'POST /api/reach/lookouts': () => ({ path: '/api/reach/lookouts', body: { code: 'look1.none' }, also: [400] }),
  'DELETE /api/reach/lookouts/:id': () => ({
    path: '/api/reach/lookouts/0190a3d0-0000-7000-8000-000000000000',
    also: [404],
  }),
  // Without a secret that is known, nobody is let further.
  'POST /reach/probe/pair': () => ({
    path: '/reach/probe/pair',
    body: { name: 'Saltmarsh North', url: null, secret: 's'.repeat(43) },
    also: [401, 429],
  }),
  'POST /reach/probe/look': () => ({
    path: '/reach/probe/look',
    body: { url: null, ask: { url: 'https://files.saltmarsh.example', path: '/' } },
    also: [401],
  }),
  'PUT /api/reach/relay': () => ({
    path: '/api/reach/relay',
    body: {
      code: invitationText({ host: '203.0.113.40', port: 7443, office: 'saltmarsh', secret: Buffer.alloc(32, 7) }),
    },
  }),
  'DELETE /api/reach/relay': () => ({ path: '/api/reach/relay', also: [409] }),
  'PUT /api/reach/authority/binding': () => ({
    path: '/api/reach/authority/binding',
    body: { id: 'office-7', key: 'c2VjcmV0c2VjcmV0c2VjcmV0' },
    // No authority is configured.
    also: [409],
  }),
  'POST /api/reach/compare': () => ({
    path: '/api/reach/compare',
    body: { line: 'own', fixed: true, router: 'protocol', domain: true, uploadMbit: 10, relayMbit: 10 },
  }),
  'GET /api/folders/:id/access': (t) => ({ path: `/api/folders/${t.folder}/access` }),
  'GET /api/folders/:id/access/explain': (t) => ({ path: `/api/folders/${t.folder}/access/explain` }),
  // Homes are their owner's alone: whoever may is told so there.
  'PATCH /api/folders/:id/access': (t) => ({
    path: `/api/folders/${t.folder}/access`,
    body: { othersRule: 'read' },
    also: [409],
  }),
  'POST /api/folders/:id/grants': (t) => ({
    path: `/api/folders/${t.folder}/grants`,
    body: { subject: { kind: 'person', id: t.person }, level: 'view', until: null },
    also: [409],
  }),
  'PUT /api/grants/:id': (t) => ({
    path: `/api/grants/${t.grant}`,
    body: { level: 'view', until: null },
    also: [409, 410],
  }),
  'DELETE /api/grants/:id': (t) => ({ path: `/api/grants/${t.grant}`, also: [409, 410] }),
  'GET /api/grantable': () => ({ path: '/api/grantable' }),
  'GET /api/homes': () => ({ path: '/api/homes' }),
  'POST /api/homes/:id/hand-over': (t) => ({
    path: `/api/homes/${t.storeId}/hand-over`,
    body: { toPersonId: t.person },
    also: [404, 409],
  }),
  'GET /api/work': () => ({ path: '/api/work' }),
  'POST /api/work/:kind/:id/again': () => ({ path: `/api/work/mail/${randomUUID()}/again`, also: [404] }),
  'GET /reach/probe': () => ({ path: '/reach/probe' }),
  'GET /reach/probe/:nonce': () => ({ path: '/reach/probe/AAAAAAAAAAAAAAAAAAAAAAAA', also: [410] }),
};

/** Things in a store, made by somebody who may do everything there. */
export async function makeThings(office: TestOffice, by: Client, rootId: string): Promise<Things> {
  const inner = await folder(by, rootId, randomUUID());
  const put = async (name: string) => (await by.upload(inner, name, randomBytes(20))).body.id;
  const [file, trashed] = [await put(`${randomUUID()}.txt`), await put('thrown away.txt')];
  await by.upload(inner, 'text.txt', Buffer.from('text'));
  await by.ask('POST', '/api/trash', { nodeIds: [trashed] });
  const text = (await by.ask<{ items: { id: string; name: string }[] }>('GET', `/api/folders/${inner}`)).body.items;
  // Somebody for whom and to whom things are done, and who asks nothing.
  await office.db.query(
    `INSERT INTO person (id, sign_in_name, email, name, initials, role, password_hash, created_at)
     VALUES ($1, 'example', 'example@saltmarsh.example', 'Example', 'EX', 'staff', '', '2026-01-01')
      ON CONFLICT (sign_in_name) DO NOTHING`,
    [randomUUID()],
  );
  const [person, stranger, addressRow] = await Promise.all([
    office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'example'`),
    // Somebody who asks nothing in these tests.
    office.db.query<{ id: string }[]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`),
    office.db.query<{ id: string }[]>('SELECT id FROM address WHERE is_default'),
  ]);
  const [tag, task, grant, place, group, dutySet] = Array.from({ length: 6 }, () => randomUUID()) as [
    string,
    string,
    string,
    string,
    string,
    string,
  ];
  await office.db.query('INSERT INTO people_group (id, name, since) VALUES ($1, $2, $3)', [group, group, new Date(0)]);
  await office.db.query(`INSERT INTO duty_set (id, name, duties, created_at) VALUES ($1, $1::uuid::text, '{}', $2)`, [
    dutySet,
    new Date(0),
  ]);
  const [home] = await office.db.query<unknown[]>(
    `SELECT 1 FROM node n JOIN store s ON s.id = n.store_id WHERE n.id = $1 AND s.kind = 'home'`,
    [inner],
  );
  await office.db.query(
    `INSERT INTO access_grant (id, node_id, subject_kind, person_id, level, since, ended_at)
     VALUES ($1, $2, 'person', $3, 'view', $4, $5)`,
    [grant, inner, stranger[0]?.id, new Date(0), home ? new Date(0) : null],
  );
  await office.db.query(`INSERT INTO tag (id, name, colour) VALUES ($1, $2, 'tide')`, [tag, tag]);
  await office.db.query(
    `INSERT INTO task (id, kind, detail, state, created_at) VALUES ($1, 'scrub', '{}', 'done', now())`,
    [task],
  );
  await office.db.query(
    `INSERT INTO backup_place (id, folder, every, at_minute, weekday, keep_days, keep_weeks, keep_months, recipients,
       rehearse, made_at, tried_at) VALUES ($1, $2, 'week', 0, 1, 7, 0, 0, '{}', 'never', $3, $3)`,
    [place, `/nowhere/${place}`, office.clock.date()],
  );
  const at = office.clock.date().toISOString();
  office.clock.advance(1000);
  return {
    storeId: await storeOf(by, inner),
    folder: inner,
    file: text.find((i) => i.name === 'text.txt')?.id ?? file,
    trashed,
    person: person[0]?.id as string,
    address: addressRow[0]?.id as string,
    tag,
    task,
    place,
    emptyFolder: join(dirname(office.config.blobRoot), `backups-${place}`),
    grant,
    group,
    dutySet,
    share: await office.publish(by, [text.find((i) => i.name === 'text.txt')?.id ?? file]),
    upload: await takenUpload(by, inner, 'text.txt'),
    ...(await intakeThings(office, by, inner)),
    at,
  };
}

/** An intake, and what somebody handed in there. */
async function intakeThings(
  office: TestOffice,
  by: Client,
  folderId: string,
): Promise<Pick<Things, 'intake' | 'deposit'>> {
  const intake = await askForFiles(by, folderId);
  const somebody = await outsider(office, intake.token);
  await sendFile(somebody, 'example.txt', Buffer.from('example'));
  const { path } = (await handIn(somebody)).body;
  const sheet = await by.ask<IntakeSheet>('GET', `/api/intakes/${intake.id}`);
  const [deposit] = sheet.body.handedIn;
  const file = deposit?.files[0]?.id ?? '';
  return { intake, deposit: { id: deposit?.id ?? '', file, receipt: path } };
}

/** An upload that has arrived whole and waits, because its name was taken. */
async function takenUpload(by: Client, folderId: string, name: string): Promise<string> {
  const b64 = (text: string) => Buffer.from(text).toString('base64');
  const tus = { 'Tus-Resumable': '1.0.0' };
  const metadata = `folderId ${b64(folderId)},name ${b64(name)},conflict ${b64('keep-both')}`;
  const headers = { ...tus, 'Upload-Length': '3', 'Upload-Metadata': metadata };
  const location = (await by.fetch('/api/uploads', { method: 'POST', headers })).headers.get('location') ?? '';
  return location.slice(location.lastIndexOf('/') + 1);
}

/** Makes the request. */
export function request(by: Client, method: string, example: Example): Promise<Response> {
  const { path, body, raw, headers } = example;
  const type = raw ? 'application/octet-stream' : 'application/json';
  return by.fetch(path, {
    method,
    headers: { ...((raw ?? body) && { 'content-type': type }), ...headers },
    body: raw ? new Uint8Array(raw) : body && JSON.stringify(body),
  });
}
