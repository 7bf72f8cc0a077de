export * from './common.js';
export * from './events.js';
export * from './ledger.js';
export * from './problem.js';
export * from './session.js';
export * from './shares.js';
export * from './stores.js';
export * from './visitor.js';
