import { randomBytes } from 'node:crypto';
import { describe, expect, it } from 'vitest';
import { TestClock } from '../_fixtures/office.js';
import { NO_REACH, type Config } from '../platform/config.js';
import { DEVICE_KEPT_SECONDS, DeviceMemory } from './device-memory.js';
import type { Person } from './people.entity.js';

const NOW = Date.parse('2026-11-24T10:00:00Z');
const person = (id: string, passwordHash = 'a hash') => ({ id, passwordHash }) as Person;
const memory = (sealingKey = randomBytes(32), clock = new TestClock(NOW)) =>
  new DeviceMemory(clock, { sealingKey, reach: NO_REACH } as Config);

describe('the sign of a browser in which somebody has signed in', () => {
  const iris = person('iris');
  it('is known again, and every browser has its own', () => {
    const one = memory();
    const [here, there] = [one.remember(iris), one.remember(iris)];
    expect(one.known(here, iris)).toMatch(/^[\w-]{16}$/);
    expect(one.known(here, iris)).not.toBe(one.known(there, iris));
  });

  it('is nobody else’s, and none after the password has changed', () => {
    const one = memory();
    const sign = one.remember(iris);
    expect(one.known(sign, person('tomas'))).toBeNull();
    expect(one.known(sign, person('iris', 'another hash'))).toBeNull();
    expect(one.known(sign, null)).toBeNull();
  });

  it('holds for its time and no longer', () => {
    const clock = new TestClock(NOW);
    const one = memory(randomBytes(32), clock);
    const sign = one.remember(iris);
    clock.advance(DEVICE_KEPT_SECONDS * 1000);
    expect(one.known(sign, iris)).not.toBeNull();
    clock.advance(1000);
    expect(one.known(sign, iris)).toBeNull();
  });

  it('cannot be made without the key of the office', () => {
    expect(memory().known(memory().remember(iris), iris)).toBeNull();
    const key = randomBytes(32);
    expect(memory(key).known(memory(key).remember(iris), iris)).not.toBeNull();
  });

  it('is refused when any letter of it is another', () => {
    const one = memory();
    const sign = one.remember(iris);
    for (let at = 0; at < sign.length; at += 1) {
      const changed = sign.slice(0, at) + (sign[at] === 'A' ? 'B' : 'A') + sign.slice(at + 1);
      expect(one.known(changed, iris), `letter ${at}`).toBeNull();
    }
  });

  it.each([null, '', '.', '..', 'a.b.c', `${'x'.repeat(16)}.99999999999.${'y'.repeat(43)}`, 'x'.repeat(100_000)])(
    'what is none is none: %#',
    (sign) => expect(memory().known(sign, iris)).toBeNull(),
  );
});
