import {
  type AudienceKind,
  guessingWords,
  guessingYears,
  SHARED_TRIES_PER_MINUTE,
  STRONG_ENOUGH_SCORE,
  type RailFix,
} from '@quay/core';
import { useEffect, useState } from 'react';
import { Button, Form, InputGroup } from 'react-bootstrap';
import { FilesGo } from '../ui/files-go';
import { RailFaults } from '../ui/rail-faults';
import { useSlip } from './store';
import type { SlipTerms } from './terms';

export interface Guess {
  words: string | null;
  weak: boolean;
  warning: string | null;
  /** Of a typed one, from 0 to 4. */
  score: number | null;
}

/** What else somebody who guesses would need. */
const ALSO_NEEDED: Record<AudienceKind, string> = {
  anyone: '',
  verified: ', and a mailbox of their own that you would see',
  listed: ', and the mailbox of somebody listed',
  members: ', and the account of somebody meant',
};

/** How long guessing would take at the rate that the server enforces; typed passwords are judged as they are typed. */
export function useGuessing(): Guess {
  const { passwordChoice, password, proposedBits, title, audience } = useSlip();
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
  const score = passwordChoice === 'typed' ? (typed?.score ?? null) : null;
  if (passwordChoice === 'none') return { words: null, weak: false, warning: null, score };
  const bits = passwordChoice === 'proposed' ? proposedBits : typed?.bits;
  if (!bits) return { words: null, weak: false, warning: null, score };
  return {
    words: guessingWords(guessingYears(bits, SHARED_TRIES_PER_MINUTE)) + ALSO_NEEDED[audience],
    weak: passwordChoice === 'typed' && (typed?.score ?? 0) < STRONG_ENOUGH_SCORE,
    warning: typed?.warning ?? null,
    score,
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

/** What stands there when it is settled. */
export function GuardSaid() {
  const { passwordChoice, password, limitField, removesFiles } = useSlip();
  const files = removesFiles ? ', files go at close' : '';
  const visits = limitField.trim() === '' ? null : <>, at most {limitField} visits</>;
  if (passwordChoice === 'none')
    return (
      <>
        no password{visits}
        {files}
      </>
    );
  return (
    <>
      <span className="mono">{password}</span> <span className="quiet">{passwordChoice}</span>
      {visits}
      {files}
    </>
  );
}

export function Guard({ meant, guess, fix }: { meant: SlipTerms; guess: Guess; fix: (fix: RailFix) => void }) {
  const slip = useSlip();
  return (
    <>
      <PasswordChoice />
      {meant.faults.password && slip.password !== '' && <div className="field-fault">{meant.faults.password}</div>}
      <RailFaults faults={meant.railFaults} field="password" fix={fix} />
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
      <RailFaults faults={meant.railFaults} field="limit" fix={fix} />
      <FilesGo
        nodeIds={slip.items.map((i) => i.id)}
        closesAt={meant.window.closesAt}
        checked={slip.removesFiles}
        set={(removesFiles) => slip.set({ removesFiles })}
      />
      {meant.faults.files && <div className="field-fault">{meant.faults.files}</div>}
    </>
  );
}
