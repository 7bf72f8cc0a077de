// A mailing of 500: from pressing Send to the last message being taken by the mail server, against a plain program that
// hands the same messages to the same server as fast as it takes them (nodemailer, five connections). Used by bench.mjs.
const MESSAGES = 500;
const AT_ONCE = 100;

/** @param tools {quay, root, databaseUrl, ports, rounds, report} of bench.mjs */
export async function measureMail({ quay, root, databaseUrl, ports, rounds, report }) {
  const { default: pg } = await import('pg');
  const { createTransport } = await import('nodemailer');
  const { randomUUID } = await import('node:crypto');
  const db = new pg.Client({ connectionString: databaseUrl });
  await db.connect();
  const plain = createTransport({ host: '127.0.0.1', port: ports.smtp, pool: true, maxConnections: 5 });
  try {
    await quay.json('PUT', '/api/settings/mail', {
      ...{ host: '127.0.0.1', port: ports.smtp, encryption: 'none', user: '', sender: 'quay@saltmarsh.example' },
    });
    const { id: folder } = await quay.json('POST', `/api/folders/${root}/folders`, { name: 'mailing' });
    const { id } = await quay.json('POST', '/api/shares', {
      ...{ title: 'A mailing', message: '', nodeIds: [folder], window: { opensAt: null, closesAt: null } },
      ...{ password: null, weakPasswordMeant: false, visitLimit: null },
    });
    const { values, template, office } = await quay.json('GET', `/api/shares/${id}/hand-overs`);
    const core = await import('@quay/core');
    const message = {
      from: 'quay@saltmarsh.example',
      subject: core.messageSubject(template, values),
      text: core.messageText(template, values),
      html: core.messageHtml(template, values, office),
    };
    const to = (round) => Array.from({ length: MESSAGES }, (_, n) => `reader${round}-${n}@mill.example`);
    const ours = async (round) => {
      // So many in an hour, and no more, is a rule of its own.
      await db.query(`UPDATE hand_over SET at = at - interval '2 hours'`);
      const began = performance.now();
      const all = to(round);
      for (let from = 0; from < MESSAGES; from += AT_ONCE)
        await quay.json('POST', `/api/shares/${id}/hand-overs/mail`, {
          ...{ sendingId: randomUUID(), to: all.slice(from, from + AT_ONCE), ...template },
        });
      for (;;) {
        const { rows } = await db.query(
          `SELECT count(*)::int AS n FROM mail WHERE state <> 'sent' AND recipient LIKE 'reader%'`,
        );
        if (rows[0].n === 0) break;
        await new Promise((resolve) => setTimeout(resolve, 20));
      }
      return MESSAGES / ((performance.now() - began) / 1000);
    };
    const theirs = async (round) => {
      const began = performance.now();
      await Promise.all(to(round).map((address) => plain.sendMail({ ...message, to: address })));
      return MESSAGES / ((performance.now() - began) / 1000);
    };
    const [us, them] = [[], []];
    for (let round = 0; round < rounds; round += 1) {
      us.push(await ours(round));
      them.push(await theirs(round));
    }
    report('a mailing of 500', us, 'messages/s', [['the same server by a plain program', them, 0.8]]);
  } finally {
    plain.close();
    await db.end();
  }
}
