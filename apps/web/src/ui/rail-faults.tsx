import type { RailFault, RailField, RailFix } from '@quay/core';

interface RailFaultsProps {
  faults: readonly RailFault[];
  field: RailField;
  fix: (fix: RailFix) => void;
}

/** Rules of the office that are not kept to, where they stand, each with the smallest change that would do. */
export function RailFaults({ faults, field, fix }: RailFaultsProps) {
  return faults
    .filter((fault) => fault.field === field)
    .map((fault) => (
      <div key={fault.rail} className="field-fault d-flex flex-wrap gap-2 align-items-baseline">
        <span>{fault.words}</span>
        {fault.fix && <FixButton fix={fault.fix} press={fix} />}
      </div>
    ));
}

export function FixButton({ fix, press }: { fix: RailFix; press: (fix: RailFix) => void }) {
  return (
    <button type="button" className="link text-decoration-underline" onClick={() => press(fix)}>
      {fix.words}
    </button>
  );
}
