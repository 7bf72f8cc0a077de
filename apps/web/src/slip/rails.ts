import type { RailFix } from '@quay/core';
import { typedFix } from '../ui/rail-fix';
import { useZone } from '../ui/session';
import { useSlip } from './store';

/** Makes the change on the slip that a guardrail proposes. */
export function useFix(): (fix: RailFix) => void {
  const zone = useZone();
  return (fix) => {
    const slip = useSlip.getState();
    switch (fix.change) {
      case 'password':
        return void slip.propose();
      case 'watermark':
        return slip.set({ watermark: fix.watermark });
      case 'level':
        return slip.set({ level: fix.level });
      case 'visits':
        return slip.set({ limitField: String(fix.visitLimit) });
      default:
        return slip.set(typedFix(fix, slip, zone) ?? {});
    }
  };
}
