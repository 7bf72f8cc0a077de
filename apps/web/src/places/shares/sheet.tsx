import type { ChangeShare, SeenPage, SeePage, ShareSheet } from '@quay/contract';
import { bringsFiles, countOf, extendedBy, REFUSAL_WORDS, STATE_WORDS, visitName } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { Link } from 'react-router';
import { api, ApiProblem } from '../../ui/api';
import { AsVisitor } from '../../ui/as-visitor';
import { CopyLine } from '../../ui/copy';
import { tellFailure, useNotices } from '../../ui/notices';
import { proposedPassword } from '../../ui/propose';
import { HandOvers } from '../../ui/hand-over';
import { useFresh } from '../../ui/hand-over/fresh';
import { LinkPart } from '../../ui/hand-over/link-part';
import { ReachLamp } from '../../ui/reach-lamp';
import { useSlip } from '../../slip/store';
import { sharedAgain } from '../../slip/template';
import { shareQuery, useChangeShare, useUndoableChange } from '../../ui/queries';
import { InviteGuest } from '../../ui/access/invite-guest';
import { now, useMe, useZone } from '../../ui/session';
import { Sheet, SheetHead } from '../../ui/sheet';
import { Failure, SkeletonRows } from '../../ui/states';
import { StateMark } from '../../ui/state-mark';
import { Sentence, Size, When } from '../../ui/words';
import { Barred } from './barred';
import { CameOfIt } from './came-of-it';
import { EditShare } from './edit';
import './sheet.scss';

/** A share from somebody's home: that it exists, and an end to it. */
function ClosedShare({ id, words, close }: { id: string; words: string; close: () => void }) {
  const { mutate, isPending } = useChangeShare();
  return (
    <>
      <h2>From somebody&rsquo;s home</h2>
      <p>{words}</p>
      <div className="d-flex gap-2">
        <Button
          variant="outline-danger"
          size="sm"
          disabled={isPending}
          onClick={() => mutate({ id, change: { withdrawn: true } }, { onSuccess: close, onError: tellFailure })}
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

/** One share: its sentence, link, visits and history, and what can be done with it. */
export function ShareSheetPanel({ id, close }: { id: string; close: () => void }) {
  const { data: share, error, refetch } = useQuery(shareQuery(id));
  const [editing, setEditing] = useState(false);
  const [seeing, setSeeing] = useState(false);
  const keepFresh = useFresh((s) => s.keep);
  const propose = useNewPassword(id, (password) => keepFresh(id, password));
  if (error)
    return (
      <Sheet>
        {error instanceof ApiProblem && ['home.closed', 'share.beyond'].includes(error.code) ? (
          <ClosedShare id={id} words={error.message} close={close} />
        ) : (
          <Failure error={error} again={() => void refetch()} />
        )}
      </Sheet>
    );
  if (!share)
    return (
      <Sheet>
        <SkeletonRows count={5} />
      </Sheet>
    );
  return (
    <Sheet label={share.title}>
      <SheetHead title={share.title} close={close}>
        <StateMark state={share.state} labelled={false} /> {STATE_WORDS[share.state]}
      </SheetHead>
      {!share.mayAdd && <p className="quiet small mb-1">Published by {share.createdBy}</p>}
      <Sentence parts={share.sentence} />
      <Barred share={share} edit={() => setEditing(true)} propose={propose} />
      {editing ? (
        <EditShare
          share={share}
          done={(password) => {
            setEditing(false);
            if (password !== null) keepFresh(id, password);
          }}
        />
      ) : (
        <Verbs share={share} edit={() => setEditing(true)} propose={propose} see={() => setSeeing(true)} />
      )}
      {seeing && <SeeShare share={share} close={() => setSeeing(false)} />}
      <section>
        <h3>Link</h3>
        <CopyLine value={share.link} label="link" />
        <div className="mt-1">
          <ReachLamp mark={share.reach} portability={share.portability} />
        </div>
        {share.portability && <div className="field-advice">{share.portability}</div>}
        <LinkPart share={share} />
      </section>
      <HandOvers share={share} />
      <Meant share={share} />
      <Items share={share} />
      <Brought share={share} />
      <Visits share={share} />
      <CameOfIt shareId={share.id} visits={share.visitsUsed} />
      <Refused share={share} />
      <History share={share} />
    </Sheet>
  );
}

function SeeShare({ share, close }: { share: ShareSheet; close: () => void }) {
  const of = {
    key: ['marks', 'page', share.id] as const,
    ask: (asked: SeePage) => api<SeenPage>('POST', `/api/shares/${share.id}/seen`, asked),
  };
  return <AsVisitor title={share.title} audience={share.audience} of={of} close={close} />;
}

/** Gives a share another password, which is shown once. */
function useNewPassword(id: string, show: (password: string) => void): () => void {
  const change = useChangeShare();
  return () =>
    void proposedPassword().then(({ password }) =>
      change.mutate({ id, change: { password } }, { onSuccess: () => show(password), onError: tellFailure }),
    );
}

interface VerbsProps {
  share: ShareSheet;
  edit: () => void;
  propose: () => void;
  /** Shows its page as visitors get it. */
  see: () => void;
}

function Verbs({ share, edit, propose, see }: VerbsProps) {
  const zone = useZone();
  const undoable = useUndoableChange();
  const ask = (asked: ChangeShare, words: string, before?: ChangeShare) =>
    void undoable(share.id, asked, before ?? null, words);
  const before = { opensAt: share.opensAt, closesAt: share.closesAt };
  const extend = () => {
    const from = Math.max(now(), share.closesAt ? Date.parse(share.closesAt) : 0);
    ask(
      { window: { opensAt: share.opensAt, closesAt: new Date(extendedBy(from, 7, zone)).toISOString() } },
      'Extended by a week.',
      Date.parse(share.closesAt ?? '') > now() ? { window: before } : undefined,
    );
  };
  const withdrawn = share.withdrawnAt !== null;
  return (
    <div className="verbs">
      {!withdrawn && share.closesAt && (
        <Button size="sm" onClick={extend}>
          Extend a week
        </Button>
      )}
      <Button size="sm" variant="plain" onClick={edit}>
        Change
      </Button>
      <Button size="sm" variant="plain" onClick={propose}>
        New password
      </Button>
      <Button size="sm" variant="plain" onClick={see}>
        See as visitor
      </Button>
      <Button size="sm" variant="plain" onClick={() => useSlip.getState().again(sharedAgain(share, now(), zone))}>
        Share again
      </Button>
      {withdrawn ? (
        <Button
          size="sm"
          variant="plain"
          onClick={() => ask({ withdrawn: false }, 'The share is open again, as its window says.', { withdrawn: true })}
        >
          Open again
        </Button>
      ) : (
        <Button
          size="sm"
          variant="outline-danger"
          onClick={() => ask({ withdrawn: true }, 'Withdrawn. Pages that were open have closed.', { withdrawn: false })}
        >
          Withdraw
        </Button>
      )}
    </div>
  );
}

function Items({ share }: { share: ShareSheet }) {
  const begin = useSlip((slip) => slip.begin);
  const undoable = useUndoableChange();
  const takeOff = ({ id, name, frozenAt }: ShareSheet['items'][number]) => {
    const none = { add: [], addFrozen: [], takeOff: [] };
    // What was frozen then cannot be frozen as of then once more.
    const back = share.mayAdd && frozenAt === null ? { items: { ...none, add: [id] } } : null;
    void undoable(share.id, { items: { ...none, takeOff: [id] } }, back, `${name} is off the share.`);
  };
  const putBack = (id: string) =>
    void api('POST', '/api/trash/put-back', { nodeIds: [id] }).then(
      () => useNotices.getState().show('It is back where it was.'),
      tellFailure,
    );
  return (
    <section>
      <h3>
        {share.itemCount === 1 ? '1 item' : `${share.itemCount} items`}, <Size bytes={share.totalBytes} />
      </h3>
      <ul>
        {share.items.map((i) => (
          <li key={i.id} className="d-flex gap-2">
            <i className={`bi ${i.kind === 'folder' ? 'bi-folder' : 'bi-file-earmark'} quiet`} aria-hidden />
            <span className="text-truncate" title={i.place}>
              {i.kind === 'folder' && !i.gone ? (
                <Link to={`/stores/${i.id}`} className="link-body-emphasis">
                  {i.name}
                </Link>
              ) : (
                i.name
              )}
            </span>
            {i.frozenAt && (
              <span className="quiet small text-nowrap">
                frozen <When at={i.frozenAt} />
              </span>
            )}
            {i.gone && (
              <Button size="sm" variant="plain" className="ms-auto" onClick={() => putBack(i.id)}>
                In the trash: put it back
              </Button>
            )}
            <button
              type="button"
              className={i.gone ? 'off' : 'off ms-auto'}
              aria-label={`Take ${i.name} off the share`}
              onClick={() => takeOff(i)}
            >
              <i className="bi bi-x-lg" aria-hidden />
            </button>
          </li>
        ))}
      </ul>
      {share.items.length === 0 && <p className="quiet mb-1">Nothing is in it yet.</p>}
      {share.mayAdd && (
        <Button size="sm" variant="plain" onClick={() => begin({ id: share.id, title: share.title })}>
          Add items
        </Button>
      )}
    </section>
  );
}

/** Lines that are shown before somebody asks for more. */
const HISTORY_SHOWN = 40;
const VISITS_SHOWN = 12;

function History({ share }: { share: ShareSheet }) {
  const [all, setAll] = useState(false);
  const shown = share.history.slice(0, all ? undefined : HISTORY_SHOWN);
  return (
    <section>
      <h3>History</h3>
      <ul>
        {shown.map((h, i) => (
          <li key={i} className="small py-1">
            <span className="quiet">
              <When at={h.at} />
            </span>{' '}
            {h.who} {h.words}
          </li>
        ))}
      </ul>
      <Earlier
        more={share.history.length - shown.length}
        beyond={share.historyTotal - share.history.length}
        show={() => setAll(true)}
      />
    </section>
  );
}

/** That there is more than is shown, and where. */
function Earlier({ more, beyond, show }: { more: number; beyond: number; show: () => void }) {
  if (more > 0)
    return (
      <Button size="sm" variant="plain" onClick={show}>
        Show {more} earlier
      </Button>
    );
  if (beyond <= 0) return null;
  return (
    <p className="quiet small mb-0">
      {beyond.toLocaleString('en-GB')} earlier: the <Link to="/ledger">Ledger</Link> has all.
    </p>
  );
}

/** Whom it is for, where not for anyone. */
function Meant({ share: { whoIsMeant, items } }: { share: ShareSheet }) {
  const me = useMe();
  const [inviting, setInviting] = useState<string | null>(null);
  const { kind, listed, blocked, members } = whoIsMeant;
  // A guest has a folder; a file alone is only sent.
  const folder = me.duties.includes('invite-guests') ? items.find((i) => i.kind === 'folder' && !i.gone) : undefined;
  if (kind === 'anyone') return null;
  const names = kind === 'members' ? members.map((m) => m.name) : listed;
  return (
    <section>
      <h3>For</h3>
      {kind === 'verified' && <p className="mb-0">Whoever proves a mail address.</p>}
      <ul className="meant-list">
        {names.map((name) => (
          <li key={name} className="d-flex gap-2">
            {name}
            {folder && kind === 'listed' && name.includes('@') && (
              <button type="button" className="link small ms-auto" onClick={() => setInviting(name)}>
                Give an account<span className="visually-hidden"> to {name}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
      {folder && inviting && (
        <InviteGuest
          folder={{ folderId: folder.id, name: folder.name }}
          email={inviting}
          close={() => setInviting(null)}
        />
      )}
      {blocked.length > 0 && <p className="quiet small mb-0">Never let in: {blocked.join(', ')}</p>}
    </section>
  );
}

/** What visitors brought, where it lies now. */
function Brought({ share: { brought, broughtBytes, may } }: { share: ShareSheet }) {
  const [all, setAll] = useState(false);
  if (!bringsFiles(may) && brought.length === 0) return null;
  const shown = brought.slice(0, all ? undefined : VISITS_SHOWN);
  return (
    <section>
      <h3>
        Brought: <Size bytes={broughtBytes} />
        {bringsFiles(may) && (
          <>
            {' of '}
            <Size bytes={may.takesBytes} />
          </>
        )}
      </h3>
      {brought.length === 0 && <span className="quiet">Nothing has been brought yet.</span>}
      <ul>
        {shown.map((file) => (
          <li key={file.id} className="small d-flex gap-2 py-1">
            <span className="text-nowrap">
              <When at={file.at} />
            </span>
            <Link to={`/stores/${file.folderId}`} className="link-body-emphasis text-truncate">
              {file.name}
            </Link>
            <span className="quiet ms-auto text-nowrap">
              {file.replaced && 'new version, '}
              <Size bytes={file.sizeBytes} />, {file.who}
            </span>
          </li>
        ))}
      </ul>
      <Earlier more={brought.length - shown.length} beyond={0} show={() => setAll(true)} />
    </section>
  );
}

/** Who was not let in, and why. */
function Refused({ share: { refused, refusedTotal } }: { share: ShareSheet }) {
  if (refused.length === 0) return null;
  return (
    <section>
      <h3>{countOf(refusedTotal, 'refused try', 'refused tries')}</h3>
      <ul>
        {refused.map((r) => (
          <li key={`${r.at} ${r.from} ${r.reason}`} className="small d-flex gap-2">
            <When at={r.at} /> <span className="mono quiet">{r.from ?? 'many sources'}</span>
            <span className="quiet ms-auto">
              {r.count > 1 && `${r.count} times `}
              {REFUSAL_WORDS[r.reason]}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Visits({ share }: { share: ShareSheet }) {
  const [all, setAll] = useState(false);
  const shown = share.visits.slice(0, all ? undefined : VISITS_SHOWN);
  return (
    <section>
      <h3>
        {share.visitsUsed === 1 ? '1 visit' : `${share.visitsUsed} visits`}
        {share.visitLimit !== null && ` of ${share.visitLimit}`}
      </h3>
      {share.visits.length === 0 && <span className="quiet">Nobody has opened it yet.</span>}
      <ul>
        {shown.map((v) => (
          <li key={v.id} className="small d-flex gap-2">
            <span className="text-nowrap">
              <When at={v.beganAt} />
            </span>
            <span className={v.who ? 'text-truncate' : 'text-nowrap'} title={v.from}>
              {v.who ?? visitName(v.id)}
            </span>
            {!v.who && <span className="mono quiet text-truncate">{v.from}</span>}
            <span className="quiet ms-auto text-nowrap">
              {v.archive ? 'took everything' : v.files === 0 ? 'looked' : `took ${countOf(v.files, 'file')}`}
            </span>
          </li>
        ))}
      </ul>
      <Earlier
        more={share.visits.length - shown.length}
        beyond={share.visitsUsed - share.visits.length}
        show={() => setAll(true)}
      />
      {share.visits.length > 0 && (
        <a className="small" href={`/api/shares/${share.id}/visits.csv`} download>
          All as a table (CSV)
        </a>
      )}
    </section>
  );
}
