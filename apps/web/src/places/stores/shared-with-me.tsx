import type { SharedWithMe } from '@quay/contract';
import { queryOptions, useQuery } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { StateMark } from '../../ui/state-mark';
import { When } from '../../ui/words';

const forMeQuery = queryOptions({
  queryKey: ['shares', 'for-me'],
  queryFn: () => api<SharedWithMe[]>('GET', '/api/shares/for-me'),
});

/** Shares that are for whoever looks. They open here, where one is signed in, whatever address their link is built on. */
export function SharedWithMeList() {
  const { data } = useQuery(forMeQuery);
  if (!data || data.length === 0) return null;
  return (
    <section className="mt-4">
      <h2 className="small-head">Shared with you</h2>
      <table className="rows">
        <thead>
          <tr>
            <th>
              <span className="visually-hidden">State</span>
            </th>
            <th>Title</th>
            <th>From</th>
            <th>Opens with</th>
            <th>Until</th>
          </tr>
        </thead>
        <tbody>
          {data.map((share) => (
            <tr key={share.link}>
              <td>
                <StateMark state={share.state} />
              </td>
              <td className="first">
                <a className="link-body-emphasis fw-semibold" href={`/s/${share.link.split('/').at(-1)}`}>
                  {share.title}
                </a>
              </td>
              <td>{share.sender}</td>
              <td className="quiet">{opensWith(share)}</td>
              <td>
                {share.state === 'scheduled' && share.opensAt ? (
                  <>
                    from <When at={share.opensAt} brief />
                  </>
                ) : share.closesAt ? (
                  <When at={share.closesAt} brief />
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

const opensWith = ({ hasPassword, byCode }: SharedWithMe): string =>
  [hasPassword ? 'password' : null, byCode ? 'a code by mail' : null].filter(Boolean).join(', ') || 'one press';
