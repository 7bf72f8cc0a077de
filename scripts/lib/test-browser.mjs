// One browser for all journeys of a run: each person in it has a context of their own.
import puppeteer from 'puppeteer-core';
import { requirePrograms } from './install.mjs';

const ARGUMENTS = [
  '--disable-gpu',
  '--disable-quic',
  // A name of the office's own network, by which pages are no secure context.
  '--host-resolver-rules=MAP quay.lan.test 127.0.0.1',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
  ...(process.getuid() === 0 ? ['--no-sandbox'] : []),
];

/** Vitest's global setup. */
export default async function setup(project) {
  requirePrograms('chromium');
  const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', headless: true, args: ARGUMENTS });
  project.provide('browser', browser.wsEndpoint());
  return () => browser.close();
}
