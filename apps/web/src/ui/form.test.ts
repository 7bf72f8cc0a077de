import { changeShareSchema, signInSchema, type ChangeShare, type SignIn } from '@quay/contract';
import { describe, expect, it } from 'vitest';
import { resolverOf } from './form';

const options = { fields: {}, shouldUseNativeValidation: false, names: [] };

describe('what is typed into a form', () => {
  it('is judged by the schema of the contract, and taken as the schema makes it', async () => {
    const judge = resolverOf<SignIn, SignIn>(signInSchema);
    const sound = await judge({ signInName: ' Iris ', password: 'x' }, undefined, options as never);
    expect(sound).toEqual({ values: { signInName: 'iris', password: 'x' }, errors: {} });
    const wrong = await judge({ signInName: '', password: 'y'.repeat(201) }, undefined, options as never);
    expect(Object.keys(wrong.errors)).toEqual(['signInName', 'password']);
    expect(wrong.errors.signInName?.message).toBe('This is needed.');
    expect(JSON.stringify(wrong.errors)).toContain('Password length must be less than or equal to 200');
  });

  it('is asked as it is meant, with each fault at its own field', async () => {
    interface Typed {
      closes: string;
      limit: string;
    }
    const judge = resolverOf<Typed, ChangeShare>(changeShareSchema, {
      ask: ({ closes, limit }) => ({
        window: { opensAt: null, closesAt: closes },
        visitLimit: limit === '' ? null : Number(limit),
      }),
      faults: ({ limit }) => ({ limit: limit === 'many' ? 'That is no number.' : null }),
      fieldOf: (path) => (path.startsWith('window') ? 'closes' : 'limit'),
    });
    const ask = async (closes: string, limit: string) => judge({ closes, limit }, undefined, options as never);
    expect((await ask('2026-12-01T17:00:00Z', '')).values).toEqual({
      window: { opensAt: null, closesAt: '2026-12-01T17:00:00Z' },
      visitLimit: null,
    });
    expect((await ask('2026-02-30T17:00:00Z', '3')).errors.closes?.message).toContain('There is no such moment');
    expect((await ask('2026-12-01T17:00:00Z', '0')).errors.limit?.message).toContain('A visit limit is a whole number');
    // What could not be read is said in its own words.
    expect((await ask('2026-12-01T17:00:00Z', 'many')).errors.limit?.message).toBe('That is no number.');
  });
});
