import type { AccessTrial, Explanation, GrantRow, TableFolder, TableRow } from '@quay/contract';
import { ACCESS_LEVELS, LEVEL_WORDS, type AccessLevel } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { useAccessVerbs } from '../../ui/access/access-verbs';
import { AccessDialog } from '../../ui/access/access-dialog';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { trialQuery } from '../../ui/access/queries';
import { sharesOfQuery } from '../../ui/queries';
import { peopleQuery } from '../../ui/queries';
import { explainQuery } from './queries';
import { ShiftList } from './shifts';

interface CellProps {
  row: TableRow;
  folder: TableFolder;
  at: string | null;
  close: () => void;
}

/** Why somebody has what they have in a folder, and the smallest changes that there are, each tried before it is done. */
export function CellSheet({ row, folder, at, close }: CellProps) {
  const isAsked = row.kind !== 'staff' && row.kind !== 'links';
  const who = row.kind === 'group' ? { groupId: row.id } : { personId: row.id };
  const { data, error, refetch } = useQuery({ ...explainQuery(folder.id, who, at), enabled: isAsked });
  const [dialog, setDialog] = useState(false);
  const isPerson = row.kind === 'person' || row.kind === 'guest';
  return (
    <aside className="people-sheet" aria-labelledby="cell-title">
      <div className="sheet-head">
        <h2 id="cell-title">
          {row.name}, {folder.name}
        </h2>
        <Button variant="plain" size="sm" onClick={close}>
          Close
        </Button>
      </div>
      {at && (
        <p className="quiet">
          As it was <When at={at} />.
        </p>
      )}
      {error && <Failure error={error} again={() => void refetch()} />}
      {isAsked && !data && !error && <SkeletonRows count={3} />}
      {data && <Why of={data} />}
      {row.kind === 'staff' && <p>What everybody of the office has here without any group.</p>}
      {row.kind === 'links' && <LinksHere folderId={folder.id} />}
      {!at && <Kept personId={row.id} folderId={folder.id} />}
      {!at && isAsked && data && <Changes row={row} folder={folder} of={data} />}
      <div className="verbs">
        <Link className="btn btn-plain btn-sm" to={`/stores/${folder.id}`}>
          Open the folder
        </Link>
        {isPerson && (
          <Link className="btn btn-plain btn-sm" to={`/people/${row.kind === 'guest' ? 'guests' : 'staff'}/${row.id}`}>
            All of {row.name}
          </Link>
        )}
        {!at && (
          <Button variant="plain" size="sm" onClick={() => setDialog(true)}>
            All grants here
          </Button>
        )}
      </div>
      {dialog && <AccessDialog folderId={folder.id} close={() => setDialog(false)} />}
    </aside>
  );
}

function Why({ of: { level, why } }: { of: Explanation }) {
  return (
    <>
      <p className="mb-1">
        <strong>
          {level
            ? LEVEL_WORDS[level].replace(/^can/, 'Can')
            : why.some((w) => w.startsWith('Can'))
              ? 'Only says who reaches it'
              : 'Nothing'}
        </strong>
      </p>
      <ul className="why-list">
        {why.map((sentence) => (
          <li key={sentence}>{sentence}</li>
        ))}
      </ul>
    </>
  );
}

/** What is open there for whoever holds a link. */
function LinksHere({ folderId }: { folderId: string }) {
  const { data: shares } = useQuery(sharesOfQuery(folderId));
  if (!shares) return <SkeletonRows count={2} />;
  const open = shares.filter((s) => s.state === 'open');
  return (
    <>
      <p className="mb-1">{open.length === 0 ? 'What is published lies deeper in it.' : 'Whoever holds the link of'}</p>
      <ul>
        {open.map((s) => (
          <li key={s.id}>
            <Link to={`/shares/${s.id}`}>{s.title}</Link>
          </li>
        ))}
      </ul>
    </>
  );
}

/** That they were granted this beside a group that they have left since. */
function Kept({ personId, folderId }: { personId: string; folderId: string }) {
  const { data } = useQuery(peopleQuery);
  const kept = data?.kept.find((k) => k.person.id === personId && k.folder.id === folderId);
  if (!kept) return null;
  return (
    <p className="kept-note">
      <strong>
        {kept.person.name} left {kept.group.name} (<When at={kept.leftAt} brief />) and kept this.
      </strong>
    </p>
  );
}

/** A change that is looked at: what it would do, and how it is done. */
interface Offer {
  title: string;
  trial: AccessTrial;
  run: () => void;
}

function Changes({ row, folder, of }: { row: TableRow; folder: TableFolder; of: Explanation }) {
  const [offer, setOffer] = useState<Offer | null>(null);
  const here = of.grants.find((g) => g.folderId === folder.id && g.subject.id === row.id);
  return (
    <section>
      <h3>Change it</h3>
      {of.grants.map((grant) => (
        <GrantChange key={grant.id} grant={grant} look={setOffer} />
      ))}
      {!here && <NewHere row={row} folder={folder} look={setOffer} />}
      {offer && <Preview key={JSON.stringify(offer.trial)} offer={offer} leave={() => setOffer(null)} />}
    </section>
  );
}

/** A grant by which they have it: on this folder or above, theirs or a group's. */
function GrantChange({ grant, look }: { grant: GrantRow; look: (offer: Offer | null) => void }) {
  const verbs = useAccessVerbs(grant.folderId);
  const where = grant.folderName ?? 'a folder above';
  const replace = (level: AccessLevel) =>
    look({
      title: `${grant.subject.name} ${LEVEL_WORDS[level]} on ${where}`,
      trial: { replace: { grantId: grant.id, level } },
      run: () => verbs.replace.mutate({ grant, level, until: grant.until }),
    });
  const end = () =>
    look({
      title: `End what ${grant.subject.name} has on ${where}`,
      trial: { end: { grantId: grant.id } },
      run: () => verbs.end.mutate(grant),
    });
  return (
    <div className="grant-change">
      <span>
        {grant.subject.name} on {where}
        <span className="d-block quiet small">
          {grant.grantedBy && `by ${grant.grantedBy}, `}
          <When at={grant.since} brief />
        </span>
      </span>
      <Form.Select
        size="sm"
        aria-label={`Level of ${grant.subject.name} on ${where}`}
        value={grant.level}
        onChange={(e) => replace(e.target.value as AccessLevel)}
      >
        {ACCESS_LEVELS.map((level) => (
          <option key={level} value={level}>
            {LEVEL_WORDS[level]}
          </option>
        ))}
      </Form.Select>
      <Button variant="plain" size="sm" onClick={end}>
        End
      </Button>
    </div>
  );
}

function NewHere({ row, folder, look }: { row: TableRow; folder: TableFolder; look: (offer: Offer) => void }) {
  const verbs = useAccessVerbs(folder.id);
  const kind = row.kind === 'group' ? ('group' as const) : ('person' as const);
  const grant = (level: AccessLevel) =>
    look({
      title: `${row.name} ${LEVEL_WORDS[level]} on ${folder.name}`,
      trial: { grant: { folderId: folder.id, subject: { kind, id: row.id }, level } },
      run: () => verbs.grant.mutate({ subject: { kind, id: row.id }, level, until: null }),
    });
  return (
    <div className="grant-change">
      <span>{row.name} here</span>
      <Form.Select
        size="sm"
        aria-label={`Grant ${row.name} a level on ${folder.name}`}
        value=""
        onChange={(e) => grant(e.target.value as AccessLevel)}
      >
        <option value="" disabled>
          grant a level
        </option>
        {ACCESS_LEVELS.map((level) => (
          <option key={level} value={level}>
            {LEVEL_WORDS[level]}
          </option>
        ))}
      </Form.Select>
    </div>
  );
}

function Preview({ offer, leave }: { offer: Offer; leave: () => void }) {
  const { data, error } = useQuery(trialQuery(offer.trial));
  return (
    <div className="access-preview" aria-live="polite">
      <p className="mb-1">
        <strong>{offer.title}.</strong> {data?.words}
      </p>
      {error && <Failure error={error} />}
      {!data && !error && <SkeletonRows count={2} />}
      {data && <ShiftList shifts={data} />}
      <div className="verbs">
        <Button
          size="sm"
          disabled={!data}
          onClick={() => {
            offer.run();
            leave();
          }}
        >
          Do it
        </Button>
        <Button variant="plain" size="sm" onClick={leave}>
          Leave it
        </Button>
      </div>
    </div>
  );
}
