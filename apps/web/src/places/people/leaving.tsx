import type { Leave, Leaving, PersonSheet } from '@quay/contract';
import { countOf, formatSize, LEVEL_WORDS } from '@quay/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { leavingQuery } from './queries';

/** What can be done about somebody who leaves, each with its way back. */
function useLeavingVerbs(person: PersonSheet) {
  const changed = useChanged();
  const { show } = useNotices();
  const at = `/api/people/${person.id}/leaving`;
  const comeBack = useMutation({
    mutationFn: () => api<PersonSheet>('DELETE', at),
    onSuccess: () => {
      changed('people');
      changed('shares');
      show(`${person.name} is back, with what they had.`);
    },
    onError: tellFailure,
  });
  const leave = useMutation({
    mutationFn: (asked: Leave) => api<PersonSheet>('POST', at, asked),
    onSuccess: () => {
      changed('people');
      changed('shares');
      show(`${person.name} has left.`, { undo: () => comeBack.mutate() });
    },
    onError: tellFailure,
  });
  return { leave, comeBack };
}

/** That somebody has left, and the way back. */
export function LeftNote({ person }: { person: PersonSheet }) {
  const { data } = useQuery(leavingQuery(person.id));
  const { comeBack } = useLeavingVerbs(person);
  if (!data?.left) return null;
  const { at, by, homeUntil, canReturn } = data.left;
  return (
    <div className="access-preview">
      <p className="mb-1">
        Left <When at={at} brief />, seen off by {by}.{' '}
        {canReturn && homeUntil && (
          <>
            Their home is removed <When at={homeUntil} brief />.
          </>
        )}
        {!canReturn && 'Their home is gone.'}
      </p>
      {canReturn && (
        <Button variant="plain" size="sm" disabled={comeBack.isPending} onClick={() => comeBack.mutate()}>
          Take it back
        </Button>
      )}
    </div>
  );
}

/** Somebody leaves: everything they leave behind is looked at, and said who gets it; then it is one act. */
export function LeavingDialog({ person, close }: { person: PersonSheet; close: () => void }) {
  const { data, error, refetch } = useQuery(leavingQuery(person.id));
  return (
    <Modal show size="lg" scrollable onHide={close} aria-labelledby="leaving-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="leaving-title">
          {person.name} leaves
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {error && <Failure error={error} again={() => void refetch()} />}
        {!data && !error && <SkeletonRows count={6} />}
        {data && <LeavingForm person={person} behind={data} close={close} />}
      </Modal.Body>
    </Modal>
  );
}

interface FormProps {
  person: PersonSheet;
  behind: Leaving;
  close: () => void;
}

function LeavingForm({ person, behind, close }: FormProps) {
  const { leave } = useLeavingVerbs(person);
  const [sharesTo, setSharesTo] = useState<string | null>(null);
  const [said, setSaid] = useState<Record<string, string | null>>({});
  const [guestsTo, setGuestsTo] = useState<string | null>(null);
  const [homeTo, setHomeTo] = useState<string | null>(null);
  const [days, setDays] = useState('90');
  const homeDays = days === '' ? null : Number(days);
  const isSound = homeDays === null || (Number.isInteger(homeDays) && homeDays >= 1 && homeDays <= 3650);
  const shares = Object.entries(said).map(([shareId, toPersonId]) => ({ shareId, toPersonId }));
  const asked: Leave = { sharesTo, shares, guestsTo, homeTo, homeDays };
  return (
    <Form
      noValidate
      onSubmit={(e) => {
        e.preventDefault();
        leave.mutate(asked, { onSuccess: close });
      }}
    >
      <Ends behind={behind} />
      {behind.shares.length > 0 && (
        <Part title={`${countOf(behind.shares.length + behind.moreShares, 'share')} that can still be opened`}>
          <Taker
            id="leave-shares"
            label="All of them go to"
            none="nobody: withdrawn"
            takers={behind.takers}
            value={sharesTo}
            choose={setSharesTo}
          />
          <ShareRows behind={behind} {...{ sharesTo, homeTo, said }} say={(id, to) => setSaid({ ...said, [id]: to })} />
        </Part>
      )}
      {behind.guests.length > 0 && (
        <Part title={`${countOf(behind.guests.length, 'guest')}: ${behind.guests.map((g) => g.name).join(', ')}`}>
          <Taker
            id="leave-guests"
            label="Answers for them from now on"
            none="nobody"
            takers={behind.takers}
            value={guestsTo}
            choose={setGuestsTo}
          />
        </Part>
      )}
      {behind.home && (
        <HomePart
          usedBytes={behind.home.usedBytes}
          takers={behind.takers}
          {...{ homeTo, setHomeTo, days, setDays, isSound }}
        />
      )}
      <div className="d-flex gap-2 mt-3">
        <Button type="submit" variant="danger" disabled={leave.isPending || !isSound}>
          See {person.name} off
        </Button>
        <Button variant="plain" onClick={close}>
          Leave it
        </Button>
      </div>
      <p className="quiet small mt-2 mb-0">
        It can be taken back, with everything they had, until their home is removed.
      </p>
    </Form>
  );
}

interface HomeProps {
  usedBytes: number;
  takers: Leaving['takers'];
  homeTo: string | null;
  setHomeTo: (id: string | null) => void;
  /** As it is typed; empty: it is never removed. */
  days: string;
  setDays: (days: string) => void;
  isSound: boolean;
}

function HomePart({ usedBytes, takers, homeTo, setHomeTo, days, setDays, isSound }: HomeProps) {
  return (
    <Part title={`Their home, ${formatSize(usedBytes)}`}>
      <Taker
        id="leave-home"
        label="Goes to"
        none="nobody: it is kept, closed to everybody"
        takers={takers}
        value={homeTo}
        choose={setHomeTo}
      />
      {homeTo === null && (
        <Form.Group controlId="leave-days" className="mt-2">
          <Form.Label>And is removed for good after so many days; empty: never</Form.Label>
          <Form.Control
            type="number"
            size="sm"
            min={1}
            max={3650}
            value={days}
            isInvalid={!isSound}
            onChange={(e) => setDays(e.target.value)}
          />
        </Form.Group>
      )}
    </Part>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <fieldset className="leaving-part">
      <legend>{title}</legend>
      {children}
    </fieldset>
  );
}

/** What ends at once, whatever is chosen. */
function Ends({ behind: { sessions, groups, manages, grants } }: { behind: Leaving }) {
  const names = (list: { name: string }[]) => list.map((x) => x.name).join(', ');
  return (
    <ul className="mb-2">
      <li>The account cannot be used any more{sessions > 0 && `; ${countOf(sessions, 'session')} end at once`}.</li>
      {groups.length > 0 && <li>They are no longer in {names(groups)}.</li>}
      {manages.length > 0 && <li>They no longer manage {names(manages)}.</li>}
      {grants.map((g) => (
        <li key={g.folder.id}>
          What was granted to them on {g.folder.name} ends ({LEVEL_WORDS[g.level]}).
        </li>
      ))}
    </ul>
  );
}

interface TakerProps {
  id: string;
  label: string;
  none: string;
  takers: Leaving['takers'];
  value: string | null;
  choose: (id: string | null) => void;
  hiddenLabel?: boolean;
}

function Taker({ id, label, none, takers, value, choose, hiddenLabel = false }: TakerProps) {
  return (
    <Form.Group controlId={id}>
      <Form.Label visuallyHidden={hiddenLabel}>{label}</Form.Label>
      <Form.Select size="sm" value={value ?? ''} onChange={(e) => choose(e.target.value || null)}>
        <option value="">{none}</option>
        {takers.map((p) => (
          <option key={p.id} value={p.id}>
            {p.name}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}

interface ShareRowsProps {
  behind: Leaving;
  sharesTo: string | null;
  homeTo: string | null;
  said: Record<string, string | null>;
  say: (id: string, to: string | null) => void;
}

/** Who takes each over. What is published from the home goes with the home. */
function ShareRows({ behind, sharesTo, homeTo, said, say }: ShareRowsProps) {
  return (
    <>
      <ul className="leaving-shares">
        {behind.shares.map(({ id, title, closesAt, fromHome }) => (
          <li key={id}>
            <span>
              {title}{' '}
              <span className="quiet small">
                {closesAt ? (
                  <>
                    closes <When at={closesAt} brief />
                  </>
                ) : (
                  'never closes'
                )}
                {fromHome && ', from their home'}
              </span>
            </span>
            {fromHome ? (
              <span className="quiet">{homeTo ? 'goes with the home' : 'withdrawn'}</span>
            ) : (
              <Taker
                id={`leave-${id}`}
                label={`${title} goes to`}
                hiddenLabel
                none="nobody: withdrawn"
                takers={behind.takers}
                value={id in said ? (said[id] ?? null) : sharesTo}
                choose={(to) => say(id, to)}
              />
            )}
          </li>
        ))}
      </ul>
      {behind.moreShares > 0 && (
        <p className="quiet small mb-0">And {countOf(behind.moreShares, 'more share')}, which go the way of all.</p>
      )}
    </>
  );
}
