import type { Invitation } from '@quay/contract';
import { CopyLine } from '../copy';
import { When } from '../words';

/** How somebody gets in: the link, shown this once, or that it went to them by mail. */
export function InvitationNote({ of: { name, link, endsAt, mailedTo } }: { of: Invitation }) {
  return (
    <div className="invitation-note" role="status">
      <p className="mb-1">
        {mailedTo ? (
          <>
            A mail with the link goes to <strong>{mailedTo}</strong>.
          </>
        ) : (
          <>Nobody has told {name} yet: give them this link.</>
        )}{' '}
        {endsAt && (
          <>
            It works once, until <When at={endsAt} brief />.
          </>
        )}
      </p>
      {link && <CopyLine value={link} label={`Link for ${name}`} />}
    </div>
  );
}
