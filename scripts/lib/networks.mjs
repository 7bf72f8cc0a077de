// Networks of a test's own (ip-netns(8)), which only root makes, and only where the kernel lets it.
import { spawnSync } from 'node:child_process';

/** Whether they can be made here. */
export function canMakeNetworks() {
  const name = `quay-try-${process.pid}`;
  const ip = (...args) => spawnSync('ip', args, { stdio: 'ignore' }).status === 0;
  if (!ip('netns', 'add', name)) return false;
  const works = ip('netns', 'exec', name, 'ip', 'link', 'set', 'lo', 'up');
  ip('netns', 'del', name);
  return works;
}
