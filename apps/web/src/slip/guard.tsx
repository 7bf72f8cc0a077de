import type { RailFix } from '@quay/core';
import { Form, InputGroup } from 'react-bootstrap';
import { FilesGo } from '../ui/files-go';
import { PasswordField, PasswordGuess, type ChosenPassword, type Guess } from '../ui/password-field';
import { RailFaults } from '../ui/rail-faults';
import { useSlip } from './store';
import type { SlipTerms } from './terms';

const OFFERED = [
  ['proposed', 'Proposed password'],
  ['typed', 'Typed'],
  ['none', 'None'],
] as const;

/** The password as it is on the slip. */
export function useSlipPassword(): { chosen: ChosenPassword; set: (part: Partial<ChosenPassword>) => void } {
  const { passwordChoice, password, proposedBits, weakPasswordMeant, set } = useSlip();
  return {
    chosen: { choice: passwordChoice, password, bits: proposedBits, weakMeant: weakPasswordMeant },
    set: ({ choice, password: typed, weakMeant }) =>
      set({
        ...(choice !== undefined && choice !== 'kept' && { passwordChoice: choice }),
        ...(typed !== undefined && { password: typed }),
        ...(weakMeant !== undefined && { weakPasswordMeant: weakMeant }),
      }),
  };
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
  const password = useSlipPassword();
  return (
    <>
      <PasswordField {...password} offered={OFFERED} propose={() => void slip.propose()} />
      {meant.faults.password && slip.password !== '' && <div className="field-fault">{meant.faults.password}</div>}
      <RailFaults faults={meant.railFaults} field="password" fix={fix} />
      <PasswordGuess guess={guess} {...password} />
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
