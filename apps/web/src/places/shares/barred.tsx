import type { ChangeShare, ShareSheet } from '@quay/contract';
import { listedText, type RailFix } from '@quay/core';
import { tellFailure, useNotices } from '../../ui/notices';
import { useChangeShare } from '../../ui/queries';
import { FixButton } from '../../ui/rail-faults';
import { When } from '../../ui/words';

interface BarredProps {
  share: ShareSheet;
  /** Opens the form in which it is changed. */
  edit: () => void;
  propose: () => void;
}

/** Guardrails that a share does not keep to, and by which change it would. */
export function Barred({ share, edit, propose }: BarredProps) {
  const change = useChangeShare();
  const { railFaults, barredAt } = share;
  if (railFaults.length === 0) return null;
  const press = (fix: RailFix) => {
    if (fix.change === 'password') return propose();
    const asked = changeFor(fix, share);
    if (!asked) return edit();
    change.mutate(
      { id: share.id, change: asked },
      { onSuccess: () => useNotices.getState().show('Changed. It keeps to that rule now.'), onError: tellFailure },
    );
  };
  return (
    <section className="barred">
      <h3>
        {barredAt ? (
          <>
            Closed by a rule since <When at={barredAt} />
          </>
        ) : (
          'Does not keep to the rules'
        )}
      </h3>
      <ul>
        {railFaults.map((fault) => (
          <li key={fault.rail} className="d-flex flex-wrap gap-2 align-items-baseline">
            <span>{fault.words}</span>
            {fault.fix && <FixButton fix={fault.fix} press={press} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What is asked of the server; null: somebody must say more first. */
function changeFor(fix: RailFix, share: ShareSheet): ChangeShare | null {
  const { whoIsMeant, may, opensAt } = share;
  const members = whoIsMeant.members.map(({ kind, id }) => ({ kind, id }));
  switch (fix.change) {
    case 'closes':
      return { window: { opensAt, closesAt: new Date(fix.closesAt).toISOString() } };
    case 'level':
      return { may: { ...may, level: fix.level } };
    case 'watermark':
      return { may: { ...may, watermark: fix.watermark } };
    case 'address':
      return { addressId: fix.addressId };
    case 'visits':
      return { visitLimit: fix.visitLimit };
    case 'take-off': {
      const gone = fix.listed.map(listedText);
      return { audience: { ...whoIsMeant, members, listed: whoIsMeant.listed.filter((text) => !gone.includes(text)) } };
    }
    case 'audience':
      // Who is listed, or a member, is to be said.
      return fix.audience === 'verified'
        ? { audience: { ...whoIsMeant, members, kind: 'verified', listed: [] } }
        : null;
    case 'password':
      return null;
  }
}
