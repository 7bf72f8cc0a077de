import type { AccessAnswer, AccessShifts, FolderAccess } from '@quay/contract';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Button, Modal } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../api';
import { useChanged } from '../changed';
import { tellFailure, useNotices } from '../notices';
import { Failure, SkeletonRows } from '../states';
import './answer-dialog.scss';
import { answerQuery, trialQuery } from './queries';

interface Question {
  text: string;
  /** The folder that is looked at. */
  here: string | null;
}

/** The answer to a question about who may what, and the one change that mends it. */
export function AnswerDialog({ question, close }: { question: Question; close: () => void }) {
  const { data, error, refetch } = useQuery(answerQuery(question));
  return (
    <Modal show onHide={close} aria-labelledby="answer-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h6" id="answer-title">
          {question.text}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {error && <Failure error={error} again={() => void refetch()} />}
        {!data && !error && <SkeletonRows count={2} />}
        {data && <Answer answer={data} close={close} />}
      </Modal.Body>
    </Modal>
  );
}

function Answer({
  answer: { words, lines, folder, person, mend },
  close,
}: {
  answer: AccessAnswer;
  close: () => void;
}) {
  return (
    <>
      <p className="mb-1">
        <strong>{words}</strong>
      </p>
      <ul className="list-unstyled quiet mb-2">
        {lines.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
      {mend && <Mend mend={mend} close={close} />}
      <div className="d-flex flex-wrap gap-2">
        {folder && (
          <Link className="btn btn-plain btn-sm" to={`/stores/${folder.id}`} onClick={close}>
            Open {folder.name}
          </Link>
        )}
        {folder && person && (
          <Link className="btn btn-plain btn-sm" to={`/people?cell=${person.id}+${folder.id}`} onClick={close}>
            See it in the table
          </Link>
        )}
        {person && !folder && (
          <Link className="btn btn-plain btn-sm" to={`/people/staff/${person.id}`} onClick={close}>
            All of {person.name}
          </Link>
        )}
      </div>
    </>
  );
}

function Mend({ mend, close }: { mend: NonNullable<AccessAnswer['mend']>; close: () => void }) {
  const { data, error } = useQuery(trialQuery(mend.trial));
  const changed = useChanged();
  const { show } = useNotices();
  const run = useMutation({
    mutationFn: () => mended(mend),
    onSuccess: () => {
      changed('access');
      show(`${mend.words} now.`);
      close();
    },
    onError: tellFailure,
  });
  return (
    <div className="answer-mend">
      <p className="mb-1">
        <strong>{mend.words}.</strong> {data?.words}
      </p>
      {error && <Failure error={error} />}
      {data && <Others shifts={data} />}
      <Button size="sm" disabled={!data || run.isPending} onClick={() => run.mutate()}>
        Do it
      </Button>
    </div>
  );
}

/** Whom else the change would touch, by name. */
function Others({ shifts }: { shifts: AccessShifts }) {
  const names = [...new Set(shifts.shifts.map((s) => s.person.name))];
  return names.length > 1 ? <p className="quiet small mb-1">{names.join(', ')}</p> : null;
}

function mended({ folderId, trial, until }: NonNullable<AccessAnswer['mend']>): Promise<FolderAccess> {
  if ('grant' in trial) {
    const { subject, level } = trial.grant;
    return api<FolderAccess>('POST', `/api/folders/${folderId}/grants`, { subject, level, until: null });
  }
  if ('replace' in trial)
    return api<FolderAccess>('PUT', `/api/grants/${trial.replace.grantId}`, {
      level: trial.replace.level,
      until,
    });
  throw new Error('That cannot be done from here.');
}
