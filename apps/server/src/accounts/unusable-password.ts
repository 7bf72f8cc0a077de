import { randomBytes } from 'node:crypto';
import { hashPassword } from '../platform/passwords.js';

/** A hash of what nobody knows: until a link is used, nobody signs in. */
export const unusablePassword = (): Promise<string> => hashPassword(randomBytes(32).toString('base64url'));
