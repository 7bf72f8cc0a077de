import type { ChangeIntake, IntakeSheet } from '@quay/contract';
import { countOf, STATE_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { Link } from 'react-router';
import { ApiProblem } from '../../ui/api';
import { CopyLine } from '../../ui/copy';
import { tellFailure, useNotices } from '../../ui/notices';
import { LinkCode } from '../../ui/qr';
import { Sheet, SheetHead } from '../../ui/sheet';
import { StateMark } from '../../ui/state-mark';
import { Failure, SkeletonRows } from '../../ui/states';
import { TimeBars } from '../../ui/time-bars';
import { Sentence } from '../../ui/words';
import { Deposit } from './deposit';
import { useFreshPassword } from '../../ui/intake-draft';
import { EditIntake } from './edit';
import { EmbedPart } from './embed';
import { ExpectedPart } from './expected';
import { intakeQuery, useChangeIntake } from './queries';

/** One intake: its sentence and link, and what was handed in. */
export function IntakeSheetPanel({ id, close }: { id: string; close: () => void }) {
  const { data: intake, error, refetch } = useQuery(intakeQuery(id));
  const [isEditing, setIsEditing] = useState(false);
  if (error)
    return (
      <Sheet>
        {error instanceof ApiProblem && error.code === 'intake.closed-to-you' ? (
          <ClosedIntake id={id} words={error.message} close={close} />
        ) : (
          <Failure error={error} again={() => void refetch()} />
        )}
      </Sheet>
    );
  if (!intake)
    return (
      <Sheet>
        <SkeletonRows count={5} />
      </Sheet>
    );
  return (
    <Sheet label={intake.title}>
      <SheetHead title={intake.title} close={close}>
        <StateMark state={intake.state} labelled={false} /> {STATE_WORDS[intake.state]}
      </SheetHead>
      {intake.railFaults.length > 0 && (
        <div className="field-fault mb-2">
          {intake.railFaults.map((fault) => (
            <p key={fault.rail} className="mb-0">
              {fault.words}
            </p>
          ))}
          {intake.state === 'broken' && 'Nothing can be handed in until it keeps to that.'}
        </div>
      )}
      {intake.isLost && (
        <p className="field-fault">
          Nothing can be handed in: its folder is not there, or {intake.createdBy} may put nothing into it any more.
        </p>
      )}
      <Sentence parts={intake.sentence} />
      <Goes intake={intake} />
      {isEditing ? (
        <EditIntake intake={intake} done={() => setIsEditing(false)} />
      ) : (
        <Verbs intake={intake} edit={() => setIsEditing(true)} />
      )}
      <LinkOf intake={intake} />
      <ExpectedPart intake={intake} />
      <HandedIn intake={intake} />
      <EmbedPart intake={intake} />
    </Sheet>
  );
}

/** An intake of somebody else's: that it exists, and an end to it. */
function ClosedIntake({ id, words, close }: { id: string; words: string; close: () => void }) {
  const { mutate, isPending } = useChangeIntake(id);
  return (
    <>
      <h2>Closed to you</h2>
      <p>{words}</p>
      <div className="d-flex gap-2">
        <Button
          variant="outline-danger"
          size="sm"
          disabled={isPending}
          onClick={() => mutate({ withdrawn: true }, { onSuccess: close, onError: tellFailure })}
        >
          Withdraw
        </Button>
        <Button variant="plain" size="sm" onClick={close}>
          Close
        </Button>
      </div>
    </>
  );
}

function Goes({ intake: { folder, folderExample } }: { intake: IntakeSheet }) {
  if (!folder) return null;
  return (
    <p className="small mb-2">
      What is accepted goes into <Link to={`/stores/${folder.id}`}>{folder.name}</Link>
      {folderExample !== null && (
        <>
          , each person&rsquo;s into a folder of its own, as in <span className="mono">{folderExample}</span>
        </>
      )}
      .
    </p>
  );
}

function Verbs({ intake, edit }: { intake: IntakeSheet; edit: () => void }) {
  const { mutateAsync, isPending } = useChangeIntake(intake.id);
  const tell = useNotices((s) => s.show);
  const isOut = intake.withdrawnAt !== null;
  const change = (asked: ChangeIntake, words: string, back: ChangeIntake) =>
    void mutateAsync(asked).then(
      () => tell(words, { undo: () => void mutateAsync(back).catch(tellFailure) }),
      tellFailure,
    );
  return (
    <div className="verbs">
      <Button size="sm" variant="plain" onClick={edit}>
        Change
      </Button>
      {isOut ? (
        <Button
          size="sm"
          variant="plain"
          disabled={isPending}
          onClick={() => change({ withdrawn: false }, 'It is open again.', { withdrawn: true })}
        >
          Open again
        </Button>
      ) : (
        <Button
          size="sm"
          variant="outline-danger"
          disabled={isPending}
          onClick={() => change({ withdrawn: true }, 'Nothing can be handed in any more.', { withdrawn: false })}
        >
          Withdraw
        </Button>
      )}
    </div>
  );
}

function LinkOf({ intake: { id, link, title } }: { intake: IntakeSheet }) {
  const password = useFreshPassword((s) => s.passwords[id]);
  return (
    <section>
      <h3>Link</h3>
      <CopyLine value={link} label="link" />
      {password !== undefined && (
        <div className="mt-1">
          <p className="small mb-1">The password, by another channel. It is shown only now:</p>
          <CopyLine value={password} label="password" />
        </div>
      )}
      <details className="mt-1">
        <summary className="small">QR code</summary>
        <LinkCode link={link} title={title} />
      </details>
    </section>
  );
}

function HandedIn({ intake }: { intake: IntakeSheet }) {
  const { handedIn, deposits, waiting } = intake;
  const more = deposits - handedIn.length;
  return (
    <section>
      <h3>
        {deposits === 0 ? 'Handed in' : countOf(deposits, 'deposit')}
        {waiting > 0 && `, ${waiting} ${waiting === 1 ? 'waits' : 'wait'} for you`}
      </h3>
      {deposits === 0 && <p className="quiet mb-0">Nothing was handed in yet.</p>}
      {intake.overTime && deposits > 1 && <TimeBars {...intake.overTime} of="deposit" full="accepted" />}
      {handedIn.map((deposit) => (
        <Deposit
          key={deposit.id}
          deposit={deposit}
          into={intake.folder?.name ?? ''}
          isScanned={intake.isScanned}
          mayAsk={intake.state === 'open'}
        />
      ))}
      {more > 0 && <p className="quiet small">{countOf(more, 'earlier deposit')} are not listed.</p>}
    </section>
  );
}
