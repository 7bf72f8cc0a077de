import { Inject, Injectable } from '@nestjs/common';
import { createHash, createHmac, hkdfSync, randomBytes, timingSafeEqual } from 'node:crypto';
import { Clock } from '../platform/clock.js';
import { CONFIG, type Config } from '../platform/config.js';
import type { Person } from './people.entity.js';

export const DEVICE_COOKIE = 'quay_device';
export const DEVICE_KEPT_SECONDS = 180 * 24 * 3600;

/**
 * A browser in which somebody has signed in before bears a sign of that. It opens nothing: with it, tries to sign in
 * are counted for this browser alone, so that nobody who guesses from elsewhere keeps its owner out. It holds for one
 * person and their present password.
 */
@Injectable()
export class DeviceMemory {
  private readonly key: Buffer;

  constructor(
    private readonly clock: Clock,
    @Inject(CONFIG) config: Config,
  ) {
    this.key = Buffer.from(hkdfSync('sha256', config.sealingKey, '', 'remembered device', 32));
  }

  remember(person: Pick<Person, 'id' | 'passwordHash'>): string {
    const id = randomBytes(12).toString('base64url');
    const until = Math.floor(this.clock.now() / 1000) + DEVICE_KEPT_SECONDS;
    return `${id}.${until}.${this.sign(id, until, person)}`;
  }

  /** The device's id when the sign is this person's and still holds; null otherwise. */
  known(sign: string | null, person: Person | null): string | null {
    const [, id, until, mac] = /^([\w-]{16})\.(\d{1,12})\.([\w-]{43})$/.exec(sign ?? '') ?? [];
    if (!person || !id || !until || !mac || Number(until) * 1000 < this.clock.now()) return null;
    return timingSafeEqual(Buffer.from(mac), Buffer.from(this.sign(id, Number(until), person))) ? id : null;
  }

  private sign(id: string, until: number, person: Pick<Person, 'id' | 'passwordHash'>): string {
    const password = createHash('sha256').update(person.passwordHash).digest('hex');
    return createHmac('sha256', this.key).update(`${id} ${until} ${person.id} ${password}`).digest('base64url');
  }
}
