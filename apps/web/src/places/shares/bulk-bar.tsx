import type { ShareRow } from '@quay/contract';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { useNotices } from '../../ui/notices';
import { useChangeShare } from '../../ui/queries';
import { now, useZone } from '../../ui/session';
import { canBe, doneWords, failedWords, stepsOf, type BulkAct, type BulkStep } from './bulk';
import './bulk-bar.scss';

const ACTS: [act: BulkAct, words: string][] = [
  ['extend', 'Extend a week'],
  ['withdraw', 'Withdraw'],
  ['reopen', 'Open again'],
];

/** What can be done to the shares that are selected: one after the other, with one way back. */
export function BulkBar({ selected, clear }: { selected: ShareRow[]; clear: () => void }) {
  const zone = useZone();
  const { mutateAsync } = useChangeShare();
  const [going, setGoing] = useState<{ done: number; of: number } | null>(null);
  /** @returns those that were done; of the others it is said why */
  const doAll = async (steps: BulkStep[]): Promise<BulkStep[]> => {
    const done: BulkStep[] = [];
    const failed: { title: string; why: string }[] = [];
    for (const [n, step] of steps.entries()) {
      setGoing({ done: n, of: steps.length });
      await mutateAsync({ id: step.id, change: step.change }).then(
        () => done.push(step),
        (error: unknown) => failed.push({ title: step.title, why: error instanceof Error ? error.message : '' }),
      );
    }
    setGoing(null);
    if (failed.length > 0) useNotices.getState().show(failedWords(failed), { bad: true });
    return done;
  };
  const back = (steps: BulkStep[]) =>
    doAll(steps.map((step) => ({ ...step, change: step.before, before: step.change })));
  const run = async (act: BulkAct) => {
    const done = await doAll(stepsOf(act, selected, now(), zone));
    clear();
    if (done.length > 0) useNotices.getState().show(doneWords(act, done.length), { undo: () => void back(done) });
  };
  if (selected.length === 0) return null;
  return (
    <div className="bulk-bar" role="toolbar" aria-label="Selected shares">
      <strong className="text-nowrap" aria-live="polite">
        {going ? `${going.done} of ${going.of}` : `${selected.length} selected`}
      </strong>
      {ACTS.filter(([act]) => selected.some((share) => canBe(act, share))).map(([act, words]) => (
        <Button key={act} size="sm" variant="plain" disabled={going !== null} onClick={() => void run(act)}>
          {words}
        </Button>
      ))}
      <button type="button" className="btn btn-sm ms-auto" aria-label="Clear the selection" onClick={clear}>
        <i className="bi bi-x-lg" aria-hidden />
      </button>
    </div>
  );
}
