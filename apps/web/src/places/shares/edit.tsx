import { changeShareSchema, type ChangeShare, type ShareSheet } from '@quay/contract';
import {
  changeEffects,
  countOf,
  fromLocalField,
  lastingVisits,
  PASSWORD_LENGTH,
  toLocalField,
  typedNumber,
  VISIT_LIMIT_RANGE,
  type InsideFacts,
} from '@quay/core';
import { Button, Form } from 'react-bootstrap';
import { useState } from 'react';
import { AudienceField } from '../../ui/audience/audience-field';
import { chosenOf, useJudgedAudience } from '../../ui/audience/chosen';
import { chosenMay, judgedMay } from '../../ui/chosen-may';
import { FilesGo } from '../../ui/files-go';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { MayField } from '../../ui/may-field';
import { tellFailure, useNotices } from '../../ui/notices';
import { PasswordField, PasswordGuess, useGuessing, type ChosenPassword } from '../../ui/password-field';
import { proposedPassword } from '../../ui/propose';
import { useChangeShare } from '../../ui/queries';
import { useMe, useNow, useZone } from '../../ui/session';

interface Typed {
  title: string;
  message: string;
  opens: string;
  closes: string;
  limit: string;
}

/** Of what is no field of its own it is told below all of them. */
const fieldOf = (path: string): keyof Typed | 'root.refused' => {
  if (path.startsWith('window')) return path.endsWith('opensAt') ? 'opens' : 'closes';
  // The files go at the end: without one they cannot.
  if (path === 'removesFiles') return 'closes';
  if (path === 'visitLimit') return 'limit';
  return FIELDS.includes(path) ? (path as keyof Typed) : 'root.refused';
};
const FIELDS: readonly string[] = ['title', 'message'];

/**
 * All of a share that is out but its items, which change beside it. Takes effect at once.
 * @param done with the new password, which is shown this once; null: it has none, or the same
 */
export function EditShare({ share, done }: { share: ShareSheet; done: (password: string | null) => void }) {
  const zone = useZone();
  const before = typedOf(share, zone);
  const change = useChangeShare();
  const [chosen, setChosen] = useState(() => chosenOf(share.whoIsMeant));
  const judged = useJudgedAudience(chosen);
  const [removesFiles, setRemovesFiles] = useState(share.removesFiles);
  const isOther = removesFiles !== share.removesFiles;
  const may = useMay(share);
  const password = useOtherPassword(share);
  const [addressId, setAddressId] = useState(share.addressId);
  const isOtherAddress = addressId !== share.addressId;
  const isOtherAudience = JSON.stringify(chosen) !== JSON.stringify(chosenOf(share.whoIsMeant));
  const form = useSchemaForm<Typed, ChangeShare>(changeShareSchema, before, {
    ask: (typed) => ({
      ...changeOf(typed, before, zone),
      ...(isOtherAudience && { audience: judged.asked }),
      ...(isOther && { removesFiles }),
      ...(may.isOther && { may: may.judged.may }),
      ...(isOtherAddress && { addressId }),
      ...password.asked,
    }),
    faults: ({ limit }) => ({ limit: typedNumber(limit, VISIT_LIMIT_RANGE).fault }),
    fieldOf,
  });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await change.mutateAsync({ id: share.id, change: asked });
      useNotices.getState().show('Changed. Pages that are open show it already.');
      done(asked.password ?? null);
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  });
  const small = { form, labelClass: 'small mb-0' };
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        if ((isOtherAudience && judged.fault) || may.judged.fault || password.fault) return e.preventDefault();
        const isOtherPart = isOtherAudience || isOther || may.isOther || isOtherAddress || password.isOther;
        if (form.formState.isDirty || isOtherPart) return void submit(e);
        e.preventDefault();
        done(null);
      }}
    >
      <Field form={form} name="title" id="edit-title" label="Title" hiddenLabel maxLength={120} />
      <Field
        {...{ form, name: 'message', id: 'edit-message', label: 'Message', hiddenLabel: true }}
        {...{ as: 'textarea', rows: 2, placeholder: 'Message', maxLength: 2000 }}
      />
      <AudienceField chosen={chosen} set={(part) => setChosen({ ...chosen, ...part })} judged={judged} />
      <MayField id="edit" chosen={may.chosen} set={may.set} fault={may.judged.fault ?? undefined} />
      <Field {...small} name="opens" id="edit-opens" label="Opens (empty: at once)" type="datetime-local" />
      <Field {...small} name="closes" id="edit-closes" label="Closes (empty: open without end)" type="datetime-local" />
      <PasswordPart {...password} />
      <Field {...small} name="limit" id="edit-limit" label="Visits at most (empty: no limit)" inputMode="numeric" />
      <FilesGo
        nodeIds={share.items.map((i) => i.id)}
        shareId={share.id}
        closesAt={share.closesAt === null ? null : Date.parse(share.closesAt)}
        checked={removesFiles}
        set={setRemovesFiles}
      />
      <LinkAddress addressId={addressId} set={setAddressId} />
      <FormFault form={form} />
      {isOtherAudience && judged.fault && <p className="field-fault mb-0">{judged.fault}</p>}
      <Effects
        share={share}
        typed={form.watch()}
        part={{ audience: chosen.audience, may: may.judged.may, address: addressId }}
        anew={{ list: isOtherAudience && !judged.fault, password: Boolean(password.asked.password) }}
      />
      <Buttons busy={form.formState.isSubmitting} cancel={() => done(null)} />
    </Form>
  );
}

function PasswordPart({ field, fault, guess }: ReturnType<typeof useOtherPassword>) {
  return (
    <div>
      <div className="small">Password</div>
      <PasswordField {...field} />
      {fault && <div className="field-fault">{fault}</div>}
      <PasswordGuess {...field} guess={guess} />
    </div>
  );
}

const Buttons = ({ busy, cancel }: { busy: boolean; cancel: () => void }) => (
  <div className="d-flex gap-2">
    <Button type="submit" size="sm" disabled={busy}>
      Save
    </Button>
    <Button size="sm" variant="plain" onClick={cancel}>
      Cancel
    </Button>
  </div>
);

/** The address that the link is built on, where there is a choice. */
function LinkAddress({ addressId, set }: { addressId: string; set: (id: string) => void }) {
  const { addresses } = useMe();
  if (addresses.length < 2) return null;
  return (
    <Form.Group controlId="edit-address">
      <Form.Label className="small mb-0">The link is built on</Form.Label>
      <Form.Select size="sm" className="mono" value={addressId} onChange={(e) => set(e.target.value)}>
        {addresses.map((a) => (
          <option key={a.id} value={a.id}>
            {a.text}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}

interface EffectsProps {
  share: ShareSheet;
  typed: Typed;
  part: Pick<InsideFacts, 'audience' | 'may' | 'address'>;
  anew: { list: boolean; password: boolean };
}

/** What the change would do at once to those who are inside. */
function Effects({ share, typed, part, anew }: EffectsProps) {
  const zone = useZone();
  const now = useNow();
  if (share.state !== 'open') return null;
  const moment = (text: string | null) => (text === null ? null : Date.parse(text));
  const before: InsideFacts = {
    window: { opensAt: moment(share.opensAt), closesAt: moment(share.closesAt) },
    ...{ visitLimit: share.visitLimit, visitsUsed: share.visitsUsed },
    ...{ audience: share.audience, may: share.may, address: share.addressId },
  };
  const field = (text: string) => (text === '' ? null : fromLocalField(text, zone));
  const after: InsideFacts = {
    ...before,
    ...part,
    window: { opensAt: field(typed.opens), closesAt: field(typed.closes) },
    visitLimit: typedNumber(typed.limit, VISIT_LIMIT_RANGE).value,
  };
  const effects = changeEffects(before, after, anew, now);
  if (effects.length === 0) return null;
  const inside = lastingVisits(
    share.visits.map((v) => Date.parse(v.beganAt)),
    now,
  );
  return (
    <p className="field-advice mb-0">
      {effects.join(' ')} {inside > 0 && `${countOf(inside, 'visit')} may last at this moment.`}
    </p>
  );
}

const KEPT: ChosenPassword = { choice: 'kept', password: '', bits: 0, weakMeant: false };

/** The password, as it is or another. */
function useOtherPassword({ hasPassword, title, audience }: ShareSheet) {
  const [chosen, setChosen] = useState(KEPT);
  const guess = useGuessing(chosen, title, audience);
  const { choice, password, weakMeant } = chosen;
  const isTyped = choice === 'typed';
  const isShort = isTyped && password.length < PASSWORD_LENGTH.min;
  const others = { none: { password: null }, kept: {}, proposed: { password }, typed: { password } };
  const weak =
    guess.weak && !weakMeant ? 'That password is easy to guess. Take a proposed one, or say that you mean it.' : null;
  return {
    isOther: choice !== 'kept',
    fault: isShort ? `At least ${PASSWORD_LENGTH.min} characters.` : weak,
    guess,
    asked: { ...others[choice], ...(isTyped && weakMeant && { weakPasswordMeant: true }) } as Pick<
      ChangeShare,
      'password' | 'weakPasswordMeant'
    >,
    field: {
      chosen,
      set: (part: Partial<ChosenPassword>) => setChosen({ ...chosen, ...part }),
      offered: OFFERED_OVER[hasPassword ? 'password' : 'none'],
      propose: () =>
        void proposedPassword().then((found) => setChosen({ ...KEPT, ...found, choice: 'proposed' }), tellFailure),
    },
  };
}

const ANOTHER = [
  ['proposed', 'Proposed'],
  ['typed', 'Typed'],
] as const;
const OFFERED_OVER = {
  password: [['kept', 'As it is'], ...ANOTHER, ['none', 'None']],
  none: [['kept', 'None'], ...ANOTHER],
} as const;

/** What visitors may, as it is and as it is chosen. */
function useMay({ may }: ShareSheet) {
  const [chosen, setChosen] = useState(() => chosenMay(may));
  const isOther = JSON.stringify(chosen) !== JSON.stringify(chosenMay(may));
  const set = (part: Partial<typeof chosen>) => setChosen({ ...chosen, ...part });
  return { chosen, set, judged: judgedMay(chosen), isOther };
}

function typedOf(share: ShareSheet, zone: string): Typed {
  const field = (at: string | null) => (at ? toLocalField(Date.parse(at), zone) : '');
  return {
    title: share.title,
    message: share.message,
    opens: field(share.opensAt),
    closes: field(share.closesAt),
    limit: share.visitLimit === null ? '' : String(share.visitLimit),
  };
}

/** What is asked: only what was changed, so that a colleague's change of something else stays. */
function changeOf(typed: Typed, before: Typed, zone: string): ChangeShare {
  const moment = (text: string) => {
    const at = text === '' ? null : fromLocalField(text, zone);
    return at === null ? null : new Date(at).toISOString();
  };
  const other = (name: keyof Typed) => typed[name] !== before[name];
  return {
    ...(other('title') && { title: typed.title }),
    ...(other('message') && { message: typed.message }),
    ...((other('opens') || other('closes')) && {
      window: { opensAt: moment(typed.opens), closesAt: moment(typed.closes) },
    }),
    ...(other('limit') && { visitLimit: typedNumber(typed.limit, VISIT_LIMIT_RANGE).value }),
  };
}
