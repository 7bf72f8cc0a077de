import {
  guessingWords,
  guessingYears,
  SHARED_TRIES_PER_MINUTE,
  STRONG_ENOUGH_SCORE,
  type AudienceKind,
} from '@quay/core';
import { useEffect, useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import './password-field.scss';

/** The password of a share: `kept` is the one that it has, which nobody can read any more. */
export type PasswordChoice = 'kept' | 'proposed' | 'typed' | 'none';

export interface ChosenPassword {
  choice: PasswordChoice;
  password: string;
  /** How many bits a proposed one has. */
  bits: number;
  weakMeant: boolean;
}

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

const NO_GUESS = { words: null, weak: false, warning: null };

/** How long guessing would take at the rate that the server enforces; typed passwords are judged as they are typed. */
export function useGuessing(chosen: ChosenPassword, title: string, audience: AudienceKind): Guess {
  const { choice, password } = chosen;
  const [typed, setTyped] = useState<{ bits: number; score: number; warning: string | null } | null>(null);
  useEffect(() => {
    if (choice !== 'typed' || password.length < 6) {
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
  }, [choice, password, title]);
  const score = choice === 'typed' ? (typed?.score ?? null) : null;
  const bits = choice === 'proposed' ? chosen.bits : typed?.bits;
  if (choice === 'none' || choice === 'kept' || !bits) return { ...NO_GUESS, score };
  return {
    words: guessingWords(guessingYears(bits, SHARED_TRIES_PER_MINUTE)) + ALSO_NEEDED[audience],
    weak: choice === 'typed' && (typed?.score ?? 0) < STRONG_ENOUGH_SCORE,
    warning: typed?.warning ?? null,
    score,
  };
}

interface PasswordFieldProps {
  chosen: ChosenPassword;
  /** What there is to choose from, with its words. */
  offered: readonly (readonly [PasswordChoice, string])[];
  set: (part: Partial<ChosenPassword>) => void;
  propose: () => void;
  of?: 'share' | 'intake';
}

/** A proposed password, one of the person's own, or none. */
export function PasswordField({ chosen, offered, set, propose, of = 'share' }: PasswordFieldProps) {
  const choose = (choice: PasswordChoice) => (choice === 'proposed' ? propose() : set({ choice, password: '' }));
  return (
    <>
      <div className="choices" role="group" aria-label="Password">
        {offered.map(([choice, words]) => (
          <button
            key={choice}
            type="button"
            className="btn btn-choice"
            aria-pressed={chosen.choice === choice}
            onClick={() => choose(choice)}
          >
            {words}
          </button>
        ))}
      </div>
      {chosen.choice === 'proposed' && (
        <div className="d-flex gap-2 mt-2 align-items-start">
          {/* All of it is seen: it is read out, copied or written down. */}
          <output className="proposed-password" aria-label={`Password of the ${of}`}>
            {chosen.password}
          </output>
          <Button variant="plain" size="sm" aria-label="Propose another password" onClick={propose}>
            <i className="bi bi-arrow-repeat" aria-hidden />
          </Button>
        </div>
      )}
      {chosen.choice === 'typed' && (
        <Form.Control
          size="sm"
          className="mono mt-2"
          aria-label={`Password of the ${of}`}
          maxLength={200}
          value={chosen.password}
          autoComplete="off"
          spellCheck={false}
          onChange={(e) => set({ password: e.target.value, weakMeant: false })}
        />
      )}
    </>
  );
}

/** What is said of how hard it is to guess, and that one means it all the same. */
export function PasswordGuess({ guess, chosen, set }: { guess: Guess } & Pick<PasswordFieldProps, 'chosen' | 'set'>) {
  return (
    <>
      {guess.weak && (
        <Form.Check
          className="mt-1"
          id="weak-meant"
          label="Easy to guess; I mean it"
          checked={chosen.weakMeant}
          onChange={(e) => set({ weakMeant: e.target.checked })}
        />
      )}
      {guess.warning && <div className="field-advice">{guess.warning}</div>}
    </>
  );
}
