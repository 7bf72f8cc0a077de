import type { ShareSheet } from '@quay/contract';
import {
  countOf,
  formatSize,
  guessingWords,
  guessingYears,
  PASSWORD_TRIES_PER_MINUTE,
  shareSentence,
  STRONG_ENOUGH_SCORE,
} from '@quay/core';
import { useMutation } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Button, Form, InputGroup } from 'react-bootstrap';
import { api } from '../ui/api';
import { now as serverNow, useMe, useNow, useZone } from '../ui/session';
import { ReachLamp } from '../ui/reach-lamp';
import { useChanged } from '../ui/changed';
import { ReachedInside } from '../ui/access/reached-inside';
import { AudienceField } from '../ui/audience/audience-field';
import { useJudgedAudience, type JudgedAudience } from '../ui/audience/chosen';
import { useSizes, type Sizes } from '../ui/sizes';
import { WindowField } from '../ui/window-field';
import { Sentence, Size } from '../ui/words';
import { Handover } from './handover';
import { useSlip } from './store';
import { shareAsked, slipTerms, type SlipTerms } from './terms';
import './index.scss';

/** The docked panel on which a share is put together, from any folder; folded it is a tab with its count. */
export function Slip() {
  const slip = useSlip();
  if (slip.items.length === 0 && !slip.published) return null;
  if (slip.folded) {
    return (
      <button type="button" className="slip-tab" onClick={() => slip.fold(false)}>
        Slip, {countOf(slip.items.length, 'item')}
      </button>
    );
  }
  return (
    <aside className="slip" aria-label="Slip">
      {slip.published ? <Handover /> : <SlipForm />}
    </aside>
  );
}

function SlipForm() {
  const slip = useSlip();
  const zone = useZone();
  const now = useNow();
  const changed = useChanged();
  const sizes = useSizes(slip.items);
  const judged = useJudgedAudience(slip);
  const meant = slipTerms(slip, judged, { now, zone, sizes });
  const guess = useGuessing();
  const [tried, setTried] = useState(false);
  useEffect(() => {
    if (slip.passwordChoice === 'proposed' && slip.password === '') void slip.propose();
  }, [slip]);
  const publish = useMutation({
    // The window of a preset counts from the moment of publishing, not from when the slip was drawn.
    mutationFn: () =>
      api<ShareSheet>(
        'POST',
        '/api/shares',
        shareAsked(slip, judged, slipTerms(slip, judged, { now: serverNow(), zone, sizes })),
      ),
    onSuccess: (sheet) => {
      slip.set({ published: { sheet, password: slip.passwordChoice === 'none' ? null : slip.password } });
      changed('shares');
    },
  });
  const weak = guess.weak && !slip.weakPasswordMeant;
  const stuck = Object.keys(meant.faults).length > 0 || weak;
  return (
    <form
      className="d-flex flex-column h-100 overflow-hidden"
      onSubmit={(e) => {
        e.preventDefault();
        setTried(true);
        if (!stuck) publish.mutate();
      }}
    >
      <div className="slip-head">
        <h2>Slip</h2>
        <span className="quiet">
          {countOf(slip.items.length, 'item')}, <Size bytes={meant.terms.totalBytes} />
        </span>
        <button type="button" className="fold" aria-label="Fold the slip" onClick={() => slip.fold(true)}>
          <i className="bi bi-chevron-bar-right" aria-hidden />
        </button>
      </div>
      <div className="slip-body">
        <What meant={meant} tried={tried} sizes={sizes} />
        <Who judged={judged} />
        <WhenPart meant={meant} />
        <Guard meant={meant} guess={guess} />
        <AddressPart />
      </div>
      <div className="slip-foot">
        <Sentence parts={shareSentence(meant.terms, now, zone)} />
        <Lamps guess={guess} fault={publish.error?.message ?? (tried && stuck ? stuckWords(meant) : null)} />
        <div className="verbs">
          <Button type="submit" disabled={publish.isPending}>
            {publish.isPending ? 'Publishing' : 'Publish'}
          </Button>
          <Button variant="plain" onClick={slip.clear}>
            Clear the slip
          </Button>
        </div>
      </div>
    </form>
  );
}

const stuckWords = (meant: SlipTerms): string =>
  Object.values(meant.faults)[0] ?? 'The password is easy to guess. Take the proposed one, or tick that you mean it.';

/** Whether the link will work, how long guessing takes, and why it was not published. */
function Lamps({ guess, fault }: { guess: Guess; fault: string | null }) {
  return (
    <div className="lamps">
      <SlipLamp />
      {guess.words && <span className={guess.weak ? 'field-advice mt-0' : 'quiet'}>guessing it: {guess.words}</span>}
      {fault && (
        <span className="field-fault" role="alert">
          {fault}
        </span>
      )}
    </div>
  );
}

function What({ meant, tried, sizes }: { meant: SlipTerms; tried: boolean; sizes: Sizes }) {
  const slip = useSlip();
  return (
    <div className="part">
      <h3>What</h3>
      <div>
        <ul className="what">
          {slip.items.map((i) => (
            <li key={i.id}>
              <span className="label" title={i.name}>
                {i.name}
              </span>
              <span className="quiet text-nowrap">
                {i.kind === 'folder' ? 'folder, ' : ''}
                {formatSize(sizes.get(i.id) ?? i.sizeBytes)}
              </span>
              <button type="button" aria-label={`Take ${i.name} off the slip`} onClick={() => slip.takeOff(i.id)}>
                <i className="bi bi-x-lg" aria-hidden />
              </button>
            </li>
          ))}
        </ul>
        <ReachedInside folderIds={slip.items.flatMap((i) => i.folderId ?? [])} />
        <Form.Control
          className="mt-2"
          aria-label="Title"
          placeholder="Title the recipient sees"
          maxLength={120}
          value={slip.title}
          isInvalid={tried && Boolean(meant.faults.title)}
          onChange={(e) => slip.set({ title: e.target.value })}
        />
        <Form.Control
          className="mt-1"
          as="textarea"
          rows={1}
          aria-label="Message to the recipient"
          placeholder="Message (optional)"
          maxLength={2000}
          value={slip.message}
          onChange={(e) => slip.set({ message: e.target.value })}
        />
      </div>
    </div>
  );
}

function Who({ judged }: { judged: JudgedAudience }) {
  const slip = useSlip();
  return (
    <div className="part">
      <h3>Who</h3>
      <AudienceField chosen={slip} set={slip.set} judged={judged} />
    </div>
  );
}

function WhenPart({ meant }: { meant: SlipTerms }) {
  const slip = useSlip();
  return (
    <div className="part">
      <h3>When</h3>
      <WindowField chosen={slip} set={slip.set} window={meant.window} fault={meant.faults.window} />
    </div>
  );
}

function AddressPart() {
  const { addresses } = useMe();
  const slip = useSlip();
  const address = addresses.find((a) => a.id === slip.addressId) ?? addresses[0];
  const better = address?.portability ? addresses.find((a) => a.portability === null) : undefined;
  return (
    <div className="part">
      <h3>Address</h3>
      <div className="pt-1">
        {!address && 'There is none yet, so links cannot be made.'}
        {address && addresses.length === 1 && <span className="mono">{address.text}</span>}
        {address && addresses.length > 1 && (
          <Form.Select
            size="sm"
            className="mono"
            aria-label="Address of the link"
            value={address.id}
            onChange={(e) => slip.set({ addressId: e.target.value })}
          >
            {addresses.map((a) => (
              <option key={a.id} value={a.id}>
                {a.text}
              </option>
            ))}
          </Form.Select>
        )}
        {address?.portability && (
          <div className="field-advice">Works only inside the office: {address.portability}</div>
        )}
        {better && (
          <button type="button" className="btn btn-link btn-sm p-0" onClick={() => slip.set({ addressId: better.id })}>
            Use {better.text} instead
          </button>
        )}
      </div>
    </div>
  );
}

/** Whether the link that is about to be made can be opened by those it is for. */
function SlipLamp() {
  const { addresses } = useMe();
  const { addressId } = useSlip();
  const address = addresses.find((a) => a.id === addressId) ?? addresses[0];
  return address ? <ReachLamp mark={address.reach} portability={address.portability} /> : null;
}

interface Guess {
  words: string | null;
  weak: boolean;
  warning: string | null;
}

/** How long guessing would take at the rate that the server enforces; typed passwords are judged as they are typed. */
function useGuessing(): Guess {
  const { passwordChoice, password, proposedBits, title } = useSlip();
  const [typed, setTyped] = useState<{ bits: number; score: number; warning: string | null } | null>(null);
  useEffect(() => {
    if (passwordChoice !== 'typed' || password.length < 6) {
      setTyped(null);
      return;
    }
    let current = true;
    void import('@quay/core/strength').then(({ passwordStrength }) => {
      if (current) setTyped(passwordStrength(password, [title]));
    });
    return () => {
      current = false;
    };
  }, [passwordChoice, password, title]);
  if (passwordChoice === 'none') return { words: null, weak: false, warning: null };
  const bits = passwordChoice === 'proposed' ? proposedBits : typed?.bits;
  if (!bits) return { words: null, weak: false, warning: null };
  return {
    words: guessingWords(guessingYears(bits, PASSWORD_TRIES_PER_MINUTE)),
    weak: passwordChoice === 'typed' && (typed?.score ?? 0) < STRONG_ENOUGH_SCORE,
    warning: typed?.warning ?? null,
  };
}

/** A proposed password, one of the person's own, or none. */
function PasswordChoice() {
  const slip = useSlip();
  const choices = [
    ['proposed', 'Proposed password', () => void slip.propose()],
    ['typed', 'Typed', () => slip.set({ passwordChoice: 'typed', password: '' })],
    ['none', 'None', () => slip.set({ passwordChoice: 'none', password: '' })],
  ] as const;
  return (
    <>
      <div className="choices" role="group" aria-label="Password">
        {choices.map(([choice, words, choose]) => (
          <button
            key={choice}
            type="button"
            className="btn btn-choice"
            aria-pressed={slip.passwordChoice === choice}
            onClick={choose}
          >
            {words}
          </button>
        ))}
      </div>
      {slip.passwordChoice !== 'none' && (
        <div className="d-flex gap-2 mt-2 align-items-start">
          {slip.passwordChoice === 'proposed' ? (
            // All of it is seen: it is read out, copied or written down.
            <output className="proposed-password" aria-label="Password of the share">
              {slip.password}
            </output>
          ) : (
            <Form.Control
              size="sm"
              className="mono"
              aria-label="Password of the share"
              maxLength={200}
              value={slip.password}
              autoComplete="off"
              spellCheck={false}
              onChange={(e) => slip.set({ password: e.target.value, weakPasswordMeant: false })}
            />
          )}
          {slip.passwordChoice === 'proposed' && (
            <Button variant="plain" size="sm" aria-label="Propose another password" onClick={() => void slip.propose()}>
              <i className="bi bi-arrow-repeat" aria-hidden />
            </Button>
          )}
        </div>
      )}
    </>
  );
}

function Guard({ meant, guess }: { meant: SlipTerms; guess: Guess }) {
  const slip = useSlip();
  return (
    <div className="part">
      <h3>Guard</h3>
      <div>
        <PasswordChoice />
        {meant.faults.password && slip.password !== '' && <div className="field-fault">{meant.faults.password}</div>}
        {guess.weak && (
          <Form.Check
            className="mt-1"
            id="weak-meant"
            label="Easy to guess; I mean it"
            checked={slip.weakPasswordMeant}
            onChange={(e) => slip.set({ weakPasswordMeant: e.target.checked })}
          />
        )}
        {guess.warning && <div className="field-advice">{guess.warning}</div>}
        <InputGroup size="sm" className="mt-2">
          <InputGroup.Text>at most</InputGroup.Text>
          <Form.Control
            aria-label="Visit limit"
            inputMode="numeric"
            placeholder="any number of"
            value={slip.limitField}
            isInvalid={Boolean(meant.faults.limit)}
            onChange={(e) => slip.set({ limitField: e.target.value })}
          />
          <InputGroup.Text>visits</InputGroup.Text>
        </InputGroup>
        {meant.faults.limit && <div className="field-fault">{meant.faults.limit}</div>}
      </div>
    </div>
  );
}
