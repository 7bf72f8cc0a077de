import type { VisitorDoor, VisitorFile } from '@quay/contract';
import { countOf, STATE_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { Size, When } from '../../ui/words';
import { seenShareQuery } from './queries';

/** The page of a share as somebody gets it whom it is for: to look at, nothing of it can be taken. */
export function SeenSharePage({ personId, shareId }: { personId: string; shareId: string }) {
  const { data, error, refetch } = useQuery(seenShareQuery(personId, shareId));
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  const { page } = data;
  return (
    <>
      <nav className="seen-path" aria-label="Where they are">
        <Link to={`/people/as/${personId}`}>Stores</Link> / {page.title}
      </nav>
      <p className="quiet mb-0">
        {page.sender}, {page.office}
      </p>
      <div className="title-line">
        <h1>{page.title}</h1>
      </div>
      {page.message && <p className="mb-0">{page.message}</p>}
      <p className="quiet mb-0">{standingOf(page)}</p>
      {page.contents ? <Files files={page.contents.files} /> : <Empty>{stateWords(page)}</Empty>}
    </>
  );
}

function standingOf(page: VisitorDoor) {
  const asks = [
    page.needsSignIn ? 'sign in' : null,
    page.needsPassword ? 'type the password' : null,
    page.needsCode ? 'type a code that is sent to their address' : null,
  ].filter((step) => step !== null);
  return (
    <>
      {page.state === 'open' && page.closesAt && (
        <>
          Open until <When at={page.closesAt} />.{' '}
        </>
      )}
      {asks.length > 0 ? `Before they see it they ${asks.join(', and ')}.` : 'It opens by itself.'}
      {page.visitsLeft !== null && ` ${countOf(page.visitsLeft, 'visit')} left.`}
    </>
  );
}

const stateWords = (page: VisitorDoor) =>
  page.state === 'scheduled' && page.opensAt ? (
    <>
      Not open yet: from <When at={page.opensAt} />.
    </>
  ) : (
    `It is ${STATE_WORDS[page.state]}, and says so.`
  );

function Files({ files }: { files: VisitorFile[] }) {
  if (files.length === 0) return <Empty>There is nothing in it at the moment.</Empty>;
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>{countOf(files.length, 'file')}</th>
          <th className="number">Size</th>
        </tr>
      </thead>
      <tbody>
        {files.map((file) => (
          <tr key={file.id}>
            <td className="first">{file.path}</td>
            <td className="number">
              <Size bytes={file.sizeBytes} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
