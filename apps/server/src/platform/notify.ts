import { execFile } from 'node:child_process';
import { log } from './log/log.js';

/**
 * Tells the service manager how it stands (sd_notify(3)), by the system's own systemd-notify: its datagram socket is one
 * that Node.js cannot speak to. Without a service manager nothing is told.
 */
export function notify(...states: string[]): void {
  if (!process.env['NOTIFY_SOCKET']) return;
  execFile('systemd-notify', states, { timeout: 5000 }, (error) => {
    if (error) log.warn({ err: error }, 'the service manager could not be told');
  });
}

/** From here on the service manager hears that this lives, and ends it when it does not (WatchdogSec=). */
export function keepTelling(): void {
  const micros = Number(process.env['WATCHDOG_USEC'] ?? 0);
  // Three times in the time after which it is ended.
  if (micros > 0) setInterval(() => notify('WATCHDOG=1'), micros / 3000).unref();
}
