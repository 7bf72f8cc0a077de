import { changeShareSchema, type ChangeShare, type ShareSheet } from '@quay/contract';
import {
  changeEffects,
  countOf,
  fromLocalField,
  lastingVisits,
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
import { useNotices } from '../../ui/notices';
import { useChangeShare } from '../../ui/queries';
import { useMe, useNow, useZone } from '../../ui/session';

interface Typed {
  title: string;
  message: string;
  opens: string;
  closes: string;
  limit: string;
}

const fieldOf = (path: string): keyof Typed => {
  if (path.startsWith('window')) return path.endsWith('opensAt') ? 'opens' : 'closes';
  // The files go at the end: without one they cannot.
  if (path === 'removesFiles') return 'closes';
  return path === 'visitLimit' ? 'limit' : (path as keyof Typed);
};

/** All of a share that is out but its items and its password, which change beside it. Takes effect at once. */
export function EditShare({ share, done }: { share: ShareSheet; done: () => void }) {
  const zone = useZone();
  const before = typedOf(share, zone);
  const change = useChangeShare();
  const [chosen, setChosen] = useState(() => chosenOf(share.whoIsMeant));
  const judged = useJudgedAudience(chosen);
  const [removesFiles, setRemovesFiles] = useState(share.removesFiles);
  const isOther = removesFiles !== share.removesFiles;
  const may = useMay(share);
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
    }),
    faults: ({ limit }) => ({ limit: typedNumber(limit, VISIT_LIMIT_RANGE).fault }),
    fieldOf,
  });
  const submit = form.handleSubmit(async (asked) => {
    try {
      await change.mutateAsync({ id: share.id, change: asked });
      useNotices.getState().show('Changed. Pages that are open show it already.');
      done();
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  });
  const small = { form, labelClass: 'small mb-0' };
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        if ((isOtherAudience && judged.fault) || may.judged.fault) return e.preventDefault();
        const isChanged = form.formState.isDirty || isOtherAudience || isOther || may.isOther || isOtherAddress;
        if (isChanged) return void submit(e);
        e.preventDefault();
        done();
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
        isOtherList={isOtherAudience && !judged.fault}
      />
      <Buttons busy={form.formState.isSubmitting} cancel={done} />
    </Form>
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
  isOtherList: boolean;
}

/** What the change would do at once to those who are inside. */
function Effects({ share, typed, part, isOtherList }: EffectsProps) {
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
  const effects = changeEffects(before, after, isOtherList, now);
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
