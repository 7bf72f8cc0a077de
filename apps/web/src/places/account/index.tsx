import { Link } from 'react-router';
import { ChangePasswordForm } from '../../ui/change-password';
import { useNotices } from '../../ui/notices';
import { useScheme, type Scheme } from '../../ui/scheme';
import { PasskeysSection } from '../../ui/passkeys';
import { SecondFactorSection } from '../../ui/second-factor';
import { useMe } from '../../ui/session';
import { OwnNoticeChoices } from './notices';
import { Sessions } from './sessions';

const CHANGED = 'Your password is changed. You are signed out everywhere else, and a notice was sent to you.';
const SCHEMES: [Scheme, string][] = [
  ['system', 'As the system'],
  ['light', 'Light'],
  ['dark', 'Dark'],
];

export function Account() {
  const me = useMe();
  const { scheme, choose } = useScheme();
  return (
    <>
      <div className="title-line">
        <h1>
          {me.name}.{' '}
          <span className="quiet">
            {me.duties.includes('run-server') ? 'You run this server.' : me.role === 'guest' ? 'Guest.' : 'Staff.'}
          </span>
        </h1>
      </div>
      <div className="two-columns">
        <div>
          {me.passwordHere ? (
            <section>
              <h2 className="small-head">Change your password</h2>
              <ChangePasswordForm present="Present password" done={() => useNotices.getState().show(CHANGED)} />
            </section>
          ) : (
            <p>The directory of the office knows your password. It is changed there.</p>
          )}
          <SecondFactorSection />
          <PasskeysSection />
        </div>
        <section>
          <h2 className="small-head">Appearance</h2>
          <div className="d-flex gap-1" role="group" aria-label="Appearance">
            {SCHEMES.map(([value, words]) => (
              <button
                key={value}
                type="button"
                className="btn btn-choice"
                aria-pressed={scheme === value}
                onClick={() => choose(value)}
              >
                {words}
              </button>
            ))}
          </div>
          <OwnNoticeChoices />
          <Sessions />
          {me.duties.includes('run-server') && (
            <>
              <h2 className="small-head mt-4">The server</h2>
              <Link to="/work">What the server does by itself: mail, times of shares, what was given up</Link>
            </>
          )}
        </section>
      </div>
    </>
  );
}
