import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Failure, SkeletonRows } from '../../ui/states';
import { aboutQuery } from './queries';

/** What is shipped, by whom it is, and with what it runs. */
export function AboutThis() {
  const { data, error, refetch } = useQuery(aboutQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={6} />;
  const licences = new Set(data.packages.map((p) => p.licence)).size;
  return (
    <>
      <dl className="facts mb-3">
        <dt>Lockfast Quay</dt>
        <dd>
          {data.version}
          {data.release && `, release ${data.release}`}
        </dd>
        <dt>Runs with</dt>
        <dd>
          Node.js {data.node}, PostgreSQL {data.database}
        </dd>
        <dt>Schema</dt>
        <dd>{data.schema}</dd>
      </dl>
      <h2 className="small-head">
        Made with {countOf(data.packages.length, 'package')} of others, under {countOf(licences, 'licence')}
      </h2>
      <table className="rows">
        <thead>
          <tr>
            <th>Package</th>
            <th>Version</th>
            <th>Licence</th>
          </tr>
        </thead>
        <tbody>
          {data.packages.map((p) => (
            <tr key={`${p.name} ${p.version}`}>
              <td className="first">{p.name}</td>
              <td>{p.version}</td>
              <td>{p.licence}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
