export * from './hello.js';
export * from './invitation.js';
export * from './limits.js';
export * from './lines.js';
export * from './psk.js';
export * from './register.js';
export * from './relay.js';
