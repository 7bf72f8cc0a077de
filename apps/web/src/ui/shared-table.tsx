import type { SharedWithMe } from '@quay/contract';
import { Link } from 'react-router';
import { StateMark } from './state-mark';
import { When } from './words';

interface SharedTableProps<Share> {
  title: string;
  shares: Share[];
  /** Where each leads. */
  hrefOf: (share: Share) => string;
}

/** Shares that are for somebody. */
export function SharedTable<Share extends Omit<SharedWithMe, 'link'>>({
  title,
  shares,
  hrefOf,
}: SharedTableProps<Share>) {
  if (shares.length === 0) return null;
  return (
    <section className="mt-4">
      <h2 className="small-head">{title}</h2>
      <table className="rows">
        <thead>
          <tr>
            <th>
              <span className="visually-hidden">State</span>
            </th>
            <th>Title</th>
            <th>From</th>
            <th>Opens with</th>
            <th>When</th>
          </tr>
        </thead>
        <tbody>
          {shares.map((share) => (
            <tr key={hrefOf(share)}>
              <td>
                <StateMark state={share.state} />
              </td>
              <td className="first">
                <ShareLink to={hrefOf(share)} title={share.title} />
              </td>
              <td>{share.sender}</td>
              <td className="quiet">{opensWith(share)}</td>
              <td>
                {share.state === 'scheduled' && share.opensAt ? (
                  <>
                    from <When at={share.opensAt} brief />
                  </>
                ) : share.closesAt ? (
                  <>
                    until <When at={share.closesAt} brief />
                  </>
                ) : (
                  <span className="quiet">no end</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const opensWith = ({ hasPassword, byCode }: Pick<SharedWithMe, 'hasPassword' | 'byCode'>): string =>
  [hasPassword ? 'password' : null, byCode ? 'a code by mail' : null].filter(Boolean).join(', ') || 'one press';

/** The page of a share is no part of this application. */
function ShareLink({ to, title }: { to: string; title: string }) {
  const look = 'link-body-emphasis fw-semibold';
  return to.startsWith('/s/') ? (
    <a className={look} href={to}>
      {title}
    </a>
  ) : (
    <Link className={look} to={to}>
      {title}
    </Link>
  );
}
