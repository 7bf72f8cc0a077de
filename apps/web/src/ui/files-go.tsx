import type { FilesStay } from '@quay/contract';
import { momentInWords } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Form } from 'react-bootstrap';
import { filesStayQuery } from './queries';
import { useNow, useZone } from './session';

interface FilesGoProps {
  nodeIds: string[];
  /** The share that is out already; left out: it is being made. */
  shareId?: string;
  /** When it closes; null: it has no end. */
  closesAt: number | null;
  checked: boolean;
  set: (checked: boolean) => void;
}

/** Whether the files of a share go to the trash when it closes, and which stay because another share needs them. */
export function FilesGo({ nodeIds, shareId, closesAt, checked, set }: FilesGoProps) {
  const { data } = useQuery({ ...filesStayQuery(nodeIds, shareId), enabled: checked && nodeIds.length > 0 });
  const staying = Object.values(data ?? {}).map((shares) => longest(shares));
  const needed = staying.filter(({ until }) => closesAt !== null && until > closesAt);
  return (
    <>
      <Form.Check
        className="mt-2"
        id={`files-go-${shareId ?? 'slip'}`}
        label="Move the files to the trash when it closes"
        checked={checked}
        onChange={(e) => set(e.target.checked)}
      />
      {checked && needed.length > 0 && <Stays needed={needed} all={nodeIds.length} />}
    </>
  );
}

interface Needed {
  title: string | null;
  until: number;
}

function Stays({ needed, all }: { needed: Needed[]; all: number }) {
  const zone = useZone();
  const now = useNow();
  const last = longestOf(needed);
  const items = needed.length === all ? (all === 1 ? 'It stays' : 'They stay') : `${needed.length} of ${all} stay`;
  return (
    <div className="quiet small">
      {items}: {last.title === null ? 'another share' : <q>{last.title}</q>} needs {needed.length === 1 ? 'it' : 'them'}
      {last.until === Infinity ? ' without end' : ` until ${momentInWords(last.until, now, zone)}`}.
    </div>
  );
}

const longestOf = (needed: Needed[]): Needed => needed.reduce((a, b) => (b.until > a.until ? b : a));

const longest = (shares: FilesStay[string]): Needed =>
  longestOf(
    shares.map(({ title, closesAt }) => ({ title, until: closesAt === null ? Infinity : Date.parse(closesAt) })),
  );
