import { describe, expect, it } from 'vitest';
import { DUTIES, DUTY_WORDS, dutyShiftWords, leavesNobodyToRun, READY_DUTIES, type AccountDuties } from './duty.js';

describe('duties', () => {
  it('begin with everything for the admin, publishing for staff, and nothing for guests', () => {
    expect(READY_DUTIES.admin).toEqual(DUTIES);
    expect(READY_DUTIES.staff).toContain('publish-outside');
    expect(READY_DUTIES.staff.filter((d) => d.startsWith('run-') || d === 'see-ledger')).toEqual([]);
    expect(READY_DUTIES.guest).toEqual([]);
    expect(Object.keys(DUTY_WORDS)).toEqual(DUTIES);
  });
  it('that change are told in a sentence', () => {
    expect(dutyShiftWords('Noel Farrow', ['publish-outside'], ['publish-outside', 'see-ledger', 'run-reach'])).toBe(
      'Noel Farrow may see the whole ledger and look after how the server is reached.',
    );
    expect(
      dutyShiftWords('3 people', ['publish-outside', 'ask-outside', 'use-drive'], ['use-drive', 'see-ledger']),
    ).toBe(
      '3 people may see the whole ledger, and may no longer publish shares for people outside and ask people outside for files.',
    );
    expect(dutyShiftWords('Noel Farrow', ['see-ledger'], [])).toBe('Noel Farrow may no longer see the whole ledger.');
    expect(dutyShiftWords('Noel Farrow', ['see-ledger'], ['see-ledger'])).toBe('');
  });
  it('leave somebody who runs the server', () => {
    const account = (personId: string, usable: boolean, ...duties: AccountDuties['duties']) => ({
      personId,
      usable,
      duties,
    });
    const [iris, tomas] = [account('iris', true, 'run-server'), account('tomas', true, 'publish-outside')];
    expect(leavesNobodyToRun([iris, tomas], account('iris', true))).toBe(true);
    expect(leavesNobodyToRun([iris, tomas], account('iris', false, 'run-server'))).toBe(true);
    expect(leavesNobodyToRun([iris, tomas], account('tomas', false))).toBe(false);
    const gone = account('tomas', false, 'run-server');
    expect(leavesNobodyToRun([iris, gone], account('iris', true))).toBe(true);
    expect(leavesNobodyToRun([iris, account('tomas', true, 'run-server')], account('iris', true))).toBe(false);
    // Several at once: each of two could go, but not both.
    expect(
      leavesNobodyToRun([iris, account('tomas', true, 'run-server')], account('iris', true), account('tomas', true)),
    ).toBe(true);
    // Where there is nobody already, nothing gets worse.
    expect(leavesNobodyToRun([gone], account('tomas', false))).toBe(false);
  });
});
