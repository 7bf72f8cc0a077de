import type { AccessShifts, ShiftRow } from '@quay/contract';
import { countOf, LEVEL_WORDS, type AccessLevel } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button } from 'react-bootstrap';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { shiftsQuery } from './queries';

/** Who may more or less now than at a moment, and who changed it. */
export function ShiftsSheet({ since, close }: { since: string; close: () => void }) {
  const { data, error, refetch } = useQuery(shiftsQuery(since));
  return (
    <aside className="people-sheet" aria-labelledby="shifts-title">
      <div className="sheet-head">
        <h2 id="shifts-title">
          Since <When at={since} />
        </h2>
        <Button variant="plain" size="sm" onClick={close}>
          Close
        </Button>
      </div>
      {error && <Failure error={error} again={() => void refetch()} />}
      {!data && !error && <SkeletonRows count={4} />}
      {data && (
        <>
          <p className="mb-1">
            <strong>{data.words}</strong>
          </p>
          {data.by.length > 0 && <p className="quiet">Changed by {data.by.map(({ name }) => name).join(', ')}.</p>}
          <ShiftList shifts={data} />
        </>
      )}
    </aside>
  );
}

export function ShiftList({ shifts: { shifts, more } }: { shifts: AccessShifts }) {
  return (
    <>
      <ul className="shift-list">
        {shifts.map((shift) => (
          <li key={`${shift.person.id} ${shift.folder.id}`}>
            <strong>{shift.person.name}</strong>
            {shift.guest && <span className="quiet"> guest</span>}, {shift.folder.name}: {shiftText(shift)}
            {shift.below > 0 && <span className="quiet"> and {countOf(shift.below, 'folder')} in it</span>}
          </li>
        ))}
      </ul>
      {more > 0 && <p className="quiet">And {countOf(more, 'more change')} of the kind.</p>}
    </>
  );
}

const words = (level: AccessLevel | null): string => (level ? LEVEL_WORDS[level].replace(/^can /, '') : 'nothing');
const shiftText = ({ was, is }: ShiftRow): string => `${words(was)} → ${words(is)}`;
