import { countOf } from '@quay/core';
import type { ReactNode } from 'react';
import { Size } from '../ui/words';
import { useSlip } from './store';

export function SlipHead({ bytes, children }: { bytes: number; children?: ReactNode }) {
  const slip = useSlip();
  return (
    <div className="slip-head">
      <h2>Slip</h2>
      <span className="quiet">
        {countOf(slip.items.length, 'item')}, <Size bytes={bytes} />
      </span>
      {children}
      <button type="button" className="fold" aria-label="Fold the slip" onClick={() => slip.fold(true)}>
        <i className="bi bi-chevron-bar-right" aria-hidden />
      </button>
    </div>
  );
}
