import { changeShareSchema, type ChangeShare, type ShareSheet } from '@quay/contract';
import { bringsFiles, fromLocalField, toLocalField, typedNumber, VISIT_LIMIT_RANGE } from '@quay/core';
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
import { useZone } from '../../ui/session';

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

/** Title, message, audience, level, window and visit limit of a share that is out. Takes effect at once. */
export function EditShare({ share, done }: { share: ShareSheet; done: () => void }) {
  const zone = useZone();
  const before = typedOf(share, zone);
  const change = useChangeShare();
  const [chosen, setChosen] = useState(() => chosenOf(share.whoIsMeant));
  const judged = useJudgedAudience(chosen);
  const [removesFiles, setRemovesFiles] = useState(share.removesFiles);
  const isOther = removesFiles !== share.removesFiles;
  const may = useMay(share);
  const isOtherAudience = JSON.stringify(chosen) !== JSON.stringify(chosenOf(share.whoIsMeant));
  const form = useSchemaForm<Typed, ChangeShare>(changeShareSchema, before, {
    ask: (typed) => ({
      ...changeOf(typed, before, zone),
      ...(isOtherAudience && { audience: judged.asked }),
      ...(isOther && { removesFiles }),
      ...(may.isOther && { may: may.judged.may }),
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
        if (form.formState.isDirty || isOtherAudience || isOther || may.isOther) return void submit(e);
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
      <FormFault form={form} />
      {isOtherAudience && judged.fault && <p className="field-fault mb-0">{judged.fault}</p>}
      {isOtherAudience && !judged.fault && (
        <p className="field-advice mb-0">Whoever is inside and not meant any more is out at once.</p>
      )}
      {may.isOther && bringsFiles(share.may) && !bringsFiles(may.chosen) && (
        <p className="field-advice mb-0">What is on its way at that moment is not taken in.</p>
      )}
      <div className="d-flex gap-2">
        <Button type="submit" size="sm" disabled={form.formState.isSubmitting}>
          Save
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Cancel
        </Button>
      </div>
    </Form>
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
