import type { Invitation } from '@quay/contract';
import { telephoneSpelling } from '@quay/core';
import { CopyLine } from '../copy';
import { When } from '../words';

/** How somebody gets in: the link or the password, shown this once, or that it went to them by mail. */
export function InvitationNote({ of: invitation }: { of: Invitation }) {
  const { name, link, endsAt, mailedTo, password } = invitation;
  if (password !== null) return <PasswordNote of={invitation} password={password} />;
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

function PasswordNote({ of: { name, signInName, link, endsAt }, password }: { of: Invitation; password: string }) {
  return (
    <div className="invitation-note d-grid gap-2" role="status">
      <p className="mb-0">
        {name} signs in as <strong className="mono">{signInName}</strong>, or with their mail address, at
      </p>
      {link && <CopyLine value={link} label="address" />}
      <p className="mb-0">with this password. Tell it to them, best on the telephone: it is shown only now.</p>
      <CopyLine value={password} label={`Password for ${name}`} />
      <p className="quiet small mb-0">On the telephone: {telephoneSpelling(password).join(', ')}.</p>
      <p className="mb-0">
        They choose one of their own before anything else.{' '}
        {endsAt && (
          <>
            This one works until <When at={endsAt} brief />.
          </>
        )}
      </p>
    </div>
  );
}
