import type { NextFunction, Request, Response } from 'express';
import helmet from 'helmet';

/**
 * What browsers are told of our pages: nothing of others runs in them, and they are shown in no page but those named.
 * @param frames `'none'`, `'self'` or origins
 */
export function pageHeaders(frames: readonly string[]): (req: Request, res: Response, next: NextFunction) => void {
  const [first] = frames;
  return helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'"],
        styleSrc: ["'self'"],
        imgSrc: ["'self'", 'data:'],
        mediaSrc: ["'self'"],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        workerSrc: ["'self'"],
        manifestSrc: ["'self'"],
        frameSrc: ["'self'"],
        formAction: ["'self'"],
        frameAncestors: [...frames],
        baseUri: ["'none'"],
      },
    },
    // Told only over HTTPS, where it means something (RFC 6797 §7.2).
    strictTransportSecurity: false,
    referrerPolicy: { policy: 'no-referrer' },
    // It knows no origins: where some are named, what says more stands alone (RFC 7034 §2.1).
    xFrameOptions: first === "'none'" ? { action: 'deny' } : first === "'self'" ? { action: 'sameorigin' } : false,
  });
}
