import { describe, expect, it } from 'vitest';
import { errorInLog } from './log.js';

describe('an error in the log', () => {
  it('is what went wrong and where, without what a library hung on it', () => {
    const lost = Object.assign(new Error('terminating connection'), {
      code: '57P01',
      client: { secretKey: 1234 },
      parameters: ['tide-and-timber'],
      query: 'SELECT 1',
    });
    expect(errorInLog(lost)).toEqual({
      type: 'Error',
      message: 'terminating connection',
      code: '57P01',
      stack: lost.stack,
    });
  });

  it('goes as deep as its causes, and each is told the same way', () => {
    const cause = Object.assign(new TypeError('no such column'), { code: '42703', parameters: ['secret'] });
    const told = errorInLog(new AggregateError([cause, 'twice'], 'all failed', { cause }));
    expect(told).toMatchObject({
      message: 'all failed',
      cause: { type: 'TypeError', code: '42703' },
      errors: [{ message: 'no such column' }, { message: 'twice' }],
    });
    expect(JSON.stringify(told)).not.toContain('"secret"');
  });

  it('ends where an error is its own cause', () => {
    const own = new Error('round and round');
    own.cause = own;
    expect(JSON.stringify(errorInLog(own)).match(/round and round/g)?.length).toBeLessThan(20);
  });
});
