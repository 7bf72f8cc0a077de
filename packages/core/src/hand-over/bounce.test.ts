import { expect, it } from 'vitest';
import { readDeliveryStatus, statusWords } from './bounce.js';

// As RFC 3464 writes them in its appendix E (from memory of it): fields of the message first, then of each recipient.
const SIMPLE = `Reporting-MTA: dns; cs.utk.edu

Original-Recipient: rfc822;louisl@larry.slip.umd.edu
Final-Recipient: rfc822;louisl@larry.slip.umd.edu
Action: failed
Status: 4.0.0
Diagnostic-Code: smtp; 426 connection timed out
Last-Attempt-Date: Thu, 7 Jul 1994 17:15:49 -0400
`;
const SEVERAL = `Reporting-MTA: dns; cs.utk.edu

Original-Recipient: rfc822;arathib@vnet.ibm.com
Final-Recipient: rfc822;arathib@vnet.ibm.com
Action: failed
Status: 5.0.0 (permanent failure)
Diagnostic-Code: smtp;  550 'arathib@vnet.IBM.COM' is not a
 registered gateway user
Remote-MTA: dns; vnet.ibm.com

Original-Recipient: rfc822;johnh@hpnjld.njd.hp.com
Final-Recipient: rfc822;johnh@hpnjld.njd.hp.com
Action: delayed
Status: 4.0.0 (hpnjld.njd.jp.com: host name lookup failure)

Final-Recipient: rfc822; wsnell@sdcc13.ucsd.edu
Action: failed
Status: 5.0.0
`;

it('says of each recipient what became of it', () => {
  expect(readDeliveryStatus(SIMPLE)).toEqual([
    {
      ...{ recipient: 'louisl@larry.slip.umd.edu', action: 'failed', status: '4.0.0' },
      words: '426 connection timed out',
    },
  ]);
  expect(readDeliveryStatus(SEVERAL.replaceAll('\n', '\r\n'))).toEqual([
    {
      ...{ recipient: 'arathib@vnet.ibm.com', action: 'failed', status: '5.0.0' },
      words: "550 'arathib@vnet.IBM.COM' is not a registered gateway user",
    },
    expect.objectContaining({ recipient: 'johnh@hpnjld.njd.hp.com', action: 'delayed' }),
    expect.objectContaining({ recipient: 'wsnell@sdcc13.ucsd.edu', words: '' }),
  ]);
});

it('reads nothing from what is no report, and no more of a wild one than is of use', () => {
  expect(readDeliveryStatus('')).toEqual([]);
  expect(readDeliveryStatus('Hello,\n\nFinal-Recipient: rfc822; a@b.example\nAction: dance\n')).toEqual([]);
  expect(readDeliveryStatus('Final-Recipient: rfc822; a@b.example\nAction: constructor\n')).toEqual([]);
  expect(readDeliveryStatus('Action: failed\nStatus: 5.0.0\n')).toEqual([]);
  const [wild] = readDeliveryStatus(
    `Reporting-MTA: dns; a\n\nFinal-Recipient: rfc822; <a@b.example> (of \u0007 us)\nACTION : Failed\nStatus: 99.1\nDiagnostic-Code: smtp; ${'\u001b[31m!'.repeat(500)}`,
  );
  expect(wild).toMatchObject({ recipient: 'a@b.example', action: 'failed', status: '' });
  expect(wild?.words).toHaveLength(400);
  expect(wild?.words).not.toMatch(/\p{Cc}/u);
  expect(readDeliveryStatus('Final-Recipient: a\nAction: failed\n\n'.repeat(10_000)).length).toBeLessThan(600);
});

it('the numbers of a status have a meaning for people (RFC 3463)', () => {
  expect(statusWords('5.1.1')).toBe('There is no such address.');
  expect(statusWords('5.2.2')).toMatch(/full/);
  expect(statusWords('5.0.0')).toBe('');
});
