import type { Browser } from 'puppeteer-core';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { openMailbox, type Mailbox } from '../apps/server/src/_fixtures/mailbox.js';
import { openOffice, type TestOffice } from '../apps/server/src/_fixtures/office.js';
import { Mail } from '../apps/server/src/platform/mail.js';
import { openGateway } from '../apps/server/src/_fixtures/text-gateway.js';
import { TextMessages } from '../apps/server/src/platform/text-messages.js';
import { launch, Person } from './_fixtures/browser.js';

// The job: say whom a share is for, and have nobody else open it.
let box: Mailbox;
let office: TestOffice;
let browser: Browser;
let iris: Person;

beforeAll(async () => {
  box = await openMailbox();
  office = await openOffice({ smtpUrl: box.url });
  office.clock.at = Date.now();
  await office.db.query(`UPDATE address SET uses = 'sign-in'`);
  const by = await office.signedIn('iris');
  await by.upload(office.roots.projects, 'plan.pdf', Buffer.from('a plan'));
  browser = await launch();
  iris = await Person.at(browser, office.origin);
  await iris.signIn('iris', `/stores/${office.roots.projects}`);
});
afterAll(async () => {
  await browser?.disconnect();
  await office?.close();
  await box?.close();
});

/** Waits until that many messages have come, and takes them. */
async function mails(count: number): Promise<Mailbox['mails']> {
  office.app.get(Mail).hurry();
  await vi.waitFor(() => expect(box.mails.length).toBeGreaterThanOrEqual(count), 60_000);
  return box.mails.splice(0);
}

/** What is on the slip goes out; its page, as somebody without a visit finds it. */
async function publish(): Promise<string> {
  await iris.press('Publish', '.slip');
  await iris.sees('Hand over', '.slip');
  const link = await iris.page.$eval('.slip .copy-line .value', (e) => e.textContent ?? '');
  return office.origin + new URL(link).pathname;
}
async function onTheSlip(): Promise<void> {
  await iris.page.goto(`${office.origin}/stores/${office.roots.projects}`);
  await iris.press('Select plan.pdf');
  await iris.page.keyboard.press('s');
  await iris.sees('1 item', '.slip');
  await iris.unfold('Guard');
  await iris.press('None', '.slip');
}
async function codeFor(address: string): Promise<string> {
  office.app.get(Mail).hurry();
  return vi.waitFor(() => {
    const code = /^\d{6}$/m.exec(
      box.mails.findLast((m) => m.text && [m.to].flat()[0]?.text === address)?.text ?? '',
    )?.[0];
    if (!code) throw new Error(`no code came for ${address}`);
    return code;
  }, 60_000);
}

describe('a share', () => {
  it('is made for listed recipients: every fault of the pasted list is named', async () => {
    await onTheSlip();
    await iris.unfold('What');
    await iris.press('Who reaches this inside', '.slip');
    await iris.sees('Tomas Osei (can edit)', '.slip');
    await iris.unfold('Who');
    await iris.press('Listed', '.slip');
    await iris.fill(
      '[aria-label="Recipients"]',
      '"Hale, Marek" <M.Hale@fenway.example>; Zoe Calder, *.brookline.example',
    );
    await iris.sees('Zoe Calder has no address.', '.slip');
    await iris.press('Publish', '.slip');
    await iris.sees('1 entry of the list is not understood.', '.slip .lamps');
    await iris.isAccessible();
    await iris.fill('[aria-label="Recipients"]', '"Hale, Marek" <M.Hale@fenway.example>; zoe@calder.example');
    await iris.sees(
      '2 listed recipients who prove their address, with the link, can download 1 item',
      '.slip .sentence',
    );
  });
  it('opens to who types the code that came to them, and shows them as whom', async () => {
    const page = await publish();
    const marek = await Person.at(browser, office.origin);
    await marek.page.goto(page);
    await marek.sees('A code is sent to your mail address.');
    await marek.isAccessible();
    await marek.fill('#address', 'm.hale@fenway.example');
    await marek.press('Send me a code');
    await marek.sees('If this is for m.hale@fenway.example, a code is on its way there.');
    await marek.isAccessible();
    await marek.fill('#code', '000000');
    await marek.press('Open');
    await marek.sees('That is not the code, or it is over. 4 tries left');
    await marek.fill('#code', await codeFor('m.hale@fenway.example'));
    await marek.press('Open');
    await marek.sees('plan.pdf');
    await marek.sees('For m.hale@fenway.example.');
    await marek.isAccessible();
    // Taken off the list, they are out on the page that is open.
    await iris.page.goto(`${office.origin}/shares`);
    await iris.press('plan', 'table');
    await iris.sees('m.hale@fenway.example', '.sheet');
    await iris.press('Change', '.sheet');
    await iris.fill('[aria-label="Recipients"]', 'zoe@calder.example');
    await iris.sees('Whoever is inside and not meant any more is out at once.');
    await iris.isAccessible();
    await iris.press('Save', '.sheet');
    await iris.sees('Changed.', '.notices');
    await marek.sees('A code is sent to your mail address.');
    await marek.leave();
  });
  it('is made for members, who sign in and come back to it', async () => {
    await onTheSlip();
    await iris.unfold('Who');
    await iris.press('Members', '.slip');
    await iris.choose('[aria-label="Add a person or group"]', 'Tomas Osei');
    await iris.sees('Tomas Osei, signed in, with the link, can download', '.slip .sentence');
    await iris.isAccessible();
    const page = await publish();
    const tomas = await Person.at(browser, office.origin);
    await tomas.page.goto(page);
    await tomas.sees('has shared this with people who sign in');
    await tomas.isAccessible();
    await tomas.press('Sign in');
    await tomas.fill('#name', 'tomas');
    await tomas.fill('#password', 'gravel-heron-silent-oar');
    await tomas.press('Sign in', 'main');
    await tomas.sees('For Tomas Osei.');
    expect(tomas.page.url()).toBe(page);
    await tomas.page.goto(`${office.origin}/stores`);
    await tomas.sees('Shared with you');
    await tomas.isAccessible();
    // As he gets it, for whoever looks after people: to look at, and no visit.
    const [{ id }] = await office.db.query<[{ id: string }]>(`SELECT id FROM person WHERE sign_in_name = 'tomas'`);
    await iris.page.goto(`${office.origin}/people/as/${id}`);
    await iris.press('plan', '.seen-as');
    await iris.sees('Before they see it they sign in.', '.seen-as');
    await iris.sees('plan.pdf', '.seen-as table');
    await iris.isAccessible();
    await tomas.leave();
    const rosa = await Person.at(browser, office.origin);
    await rosa.signIn('rosa', '/');
    await rosa.page.goto(page);
    await rosa.sees('This share is for others than Rosa Quill.');
    await rosa.leave();
  });
});

it('a share is for a telephone number: a code goes there through the gateway that the settings name', async () => {
  const gateway = await openGateway();
  const admin = await Person.at(browser, office.origin);
  await admin.signIn('iris', '/settings/texts');
  await admin.fill('#texts-url', gateway.url);
  await admin.fill('#texts-fields', 'key={secret}');
  await admin.sees('No field says whom the message is for');
  await admin.fill('#texts-fields', 'key={secret}\nrecipient={to}\nmessage={text}');
  await admin.fill('#texts-secret', 'osier');
  await admin.fill('#texts-to', '+44 7700 900123');
  await admin.press('Send it');
  await admin.sees('The gateway took it: 202');
  await admin.isAccessible();
  await admin.press('Use this gateway');
  await admin.sees('Codes go to telephones through it from now on.');
  await admin.leave();

  const client = await office.signedIn('iris');
  const audience = { kind: 'listed', listed: ['+44 7700 900123'], blocked: [], members: [] };
  const share = await office.publish(client, [], { title: 'For Marek', audience });
  const marek = await Person.at(browser, office.origin);
  await marek.page.goto(`${office.origin}/s/${share.token}`);
  await marek.sees('or your telephone number with + and its country');
  await marek.isAccessible();
  await marek.fill('#address', '07700 900123');
  await marek.press('Send me a code');
  await marek.sees('no telephone number with its country');
  await marek.fill('#address', '+44 7700 900 123');
  await marek.press('Send me a code');
  await marek.sees('If this is for +447700900123, a code is on its way there.');
  office.app.get(TextMessages).hurry();
  const code = await vi.waitFor(() => {
    const message = new URLSearchParams(gateway.asked.at(-1)?.body).get('message') ?? '';
    const found = /^(\d{6}) is your code/.exec(message)?.[1];
    if (!found) throw new Error(`no code came: ${message}`);
    return found;
  }, 60_000);
  await marek.fill('#code', code);
  await marek.press('Open');
  await marek.sees('For +447700900123.');
  await marek.leave();
  await gateway.close();
});

it('the link goes out by mail, what became of it is there, and what is not true of it any more', async () => {
  await onTheSlip();
  await iris.unfold('Who');
  await iris.press('Anyone', '.slip');
  await publish();
  box.mails.splice(0);
  await iris.press('Send by mail', '.slip');
  await iris.fill('#mail-to', 'lena@mill.example, "Ash, of the quarry" <ash@quarry.example>');
  await iris.fill('#mail-text', 'No way in');
  await iris.sees('has no {{link}}', '.slip');
  await iris.fill('#mail-text', 'Dear both, here it is: ');
  await iris.press('link', '.slip .chips');
  await iris.press('As they get it', '.slip');
  await iris.press('As text', '.slip');
  await iris.sees('Dear both, here it is: http', '.slip .message-preview');
  await iris.isAccessible();
  await iris.press('Send to 2 recipients', '.slip');
  await iris.sees('The link is on its way to 2 recipients.');
  const came = await mails(2);
  expect(came[0]?.text).toMatch(/^Dear both, here it is: http\S+\/s\/\S+\n$/);
  await iris.sees('taken by the mail server', '.slip');
  await iris.press('Done');

  await iris.press('Shares', 'nav');
  await iris.press('plan', 'table');
  await iris.sees('ash@quarry.example', '.sheet');
  await iris.press('Extend a week', '.sheet');
  await iris.sees('Not true any more: open until', '.sheet');
  await iris.isAccessible();
  await iris.press('Send again to ash@quarry.example', '.sheet');
  await iris.press('Send', '.sheet');
  await iris.sees('on its way to 1 recipient');
  expect((await mails(1))[0]?.to).toMatchObject({ text: 'ash@quarry.example' });
  expect(iris.errors).toEqual([]);
});

it('link and password go different ways, what was done by hand is written down, and a withdrawal is told', async () => {
  await iris.press('New password', '.sheet');
  await iris.sees('The password, by another channel', '.sheet');
  const password = await iris.page.$eval('.sheet .value[aria-label="password"]', (e) => e.textContent ?? '');
  await iris.fill('#read-back', 'nothing like it');
  await iris.sees('Not the same from sign', '.sheet');
  await iris.fill('#read-back', password);
  await iris.sees('The same: they have it.', '.sheet');

  // The same way as the link, first by oversight, then knowingly; it is settled afterwards.
  await iris.press('Write down what I did', '.sheet');
  await iris.page.select('#note-how', 'own-mail');
  await iris.fill('#note-to', 'ash@quarry.example');
  await iris.press('Write it down', '.sheet form');
  await iris.sees('would both reach ash@quarry.example', '.sheet');
  await iris.isAccessible();
  await iris.press('I mean it; it is written down', '.sheet form');
  await iris.press('Write it down', '.sheet form');
  await iris.sees('By the same way as the other half.', '.sheet');
  await iris.press('Today', 'nav');
  await iris.sees('went the same way');
  await iris.isAccessible();
  await iris.press('Set another password');
  await iris.press('It is settled', '.sheet');
  await iris.page.waitForFunction(() => !document.querySelector('.sheet')?.textContent?.includes('the other half'));

  // A message is kept, and the next one begins with it.
  await iris.press('Send by mail', '.sheet');
  await iris.sees('An attachment would go without', '.sheet');
  await iris.fill('#mail-text', 'House style: {{link}}');
  await iris.press('Messages that are kept (0)', '.sheet');
  await iris.fill('[aria-label="Keep what is written, as"]', 'House style');
  await iris.press('Messages begin with it', '.sheet');
  await iris.press('Keep it', '.sheet');
  await iris.sees('House style is kept.');
  await iris.press('Leave it', '.sheet form');
  await iris.page.reload();
  await iris.press('Send by mail', '.sheet');
  expect(await iris.page.$eval('#mail-text', (e) => (e as HTMLTextAreaElement).value)).toBe('House style: {{link}}');
  // Whom one wrote to before is suggested.
  await iris.sees('lena@mill.example', '.sheet .earlier');
  await iris.isAccessible();
  await iris.press('Leave it', '.sheet form');

  await iris.press('Withdraw', '.sheet');
  await iris.press('Tell 2 recipients that it is withdrawn', '.sheet');
  await iris.press('Send to 2 recipients', '.sheet');
  await iris.sees('That it is withdrawn is on its way to 2 recipients.');
  const told = await mails(2);
  expect(told.map((m) => m.text).join()).toMatch(/does not work any more/);
  expect(iris.errors).toEqual([]);
});
