import type { SharedWithMe } from '@quay/contract';
import { StateMark } from './state-mark';
import { When } from './words';

interface SharedTableProps {
  title: string;
  /** Without links they are looked at only. */
  shares: (Omit<SharedWithMe, 'link'> & { link?: string })[];
}

/** Shares that are for somebody. They open here, where one is signed in, whatever address their link is built on. */
export function SharedTable({ title, shares }: SharedTableProps) {
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
          {shares.map((share, n) => (
            <tr key={share.link ?? n}>
              <td>
                <StateMark state={share.state} />
              </td>
              <td className="first">
                {share.link ? (
                  <a className="link-body-emphasis fw-semibold" href={`/s/${share.link.split('/').at(-1)}`}>
                    {share.title}
                  </a>
                ) : (
                  <strong>{share.title}</strong>
                )}
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
