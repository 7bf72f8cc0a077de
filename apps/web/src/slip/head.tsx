import { countOf } from '@quay/core';
import { Size } from '../ui/words';
import { useSlip } from './store';

export function SlipHead({ bytes }: { bytes: number }) {
  const slip = useSlip();
  return (
    <div className="slip-head">
      <h2>Slip</h2>
      <span className="quiet">
        {countOf(slip.items.length, 'item')}, <Size bytes={bytes} />
      </span>
      <button type="button" className="fold" aria-label="Fold the slip" onClick={() => slip.fold(true)}>
        <i className="bi bi-chevron-bar-right" aria-hidden />
      </button>
    </div>
  );
}
