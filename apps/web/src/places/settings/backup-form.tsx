import { backupPlanSchema, type BackupFolderFacts, type BackupPlan, type Backups } from '@quay/contract';
import { backupChangeWords, keptWords, minuteInWords, scheduleWords, WEEKDAYS } from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { useWatch, type UseFormReturn } from 'react-hook-form';
import { api } from '../../ui/api';
import { Field, FormFault, keepFocus, tellRefused, useSchemaForm } from '../../ui/form';
import { BackupKey } from './backup-key';
import { Does } from './does';

/** What is typed. */
interface Typed extends Omit<BackupPlan, 'atMinute' | 'weekday' | 'days' | 'weeks' | 'months' | 'recipients'> {
  at: string;
  weekday: string;
  days: string;
  weeks: string;
  months: string;
  /** Keys to encrypt to, each in a line. */
  recipients: string;
}
type BackupFormState = UseFormReturn<Typed, unknown, BackupPlan>;

const AT = /^([01]?\d|2[0-3]):([0-5]\d)$/;

function asked({ at, weekday, days, weeks, months, recipients, ...rest }: Typed): BackupPlan {
  const [, hour = '0', minute = '0'] = AT.exec(at.trim()) ?? [];
  return {
    ...rest,
    atMinute: Number(hour) * 60 + Number(minute),
    weekday: Number(weekday),
    ...{ days: Number(days), weeks: Number(weeks), months: Number(months) },
    recipients: recipients.split(/\s+/).filter(Boolean),
  };
}

const typed = (plan: BackupPlan): Typed => ({
  ...{ folder: plan.folder, every: plan.every, rehearse: plan.rehearse },
  at: minuteInWords(plan.atMinute),
  weekday: String(plan.weekday),
  ...{ days: String(plan.days), weeks: String(plan.weeks), months: String(plan.months) },
  recipients: plan.recipients.join('\n'),
});

/** What most offices do well with (common practice, no source). */
const PROPOSED: BackupPlan = {
  ...{ folder: '', every: 'day', atMinute: 22 * 60 + 30, weekday: 7 },
  ...{ days: 14, weeks: 8, months: 12, recipients: [], rehearse: 'month' },
};

const fieldOf = (path: string): keyof Typed =>
  path.startsWith('recipients') ? 'recipients' : path === 'atMinute' ? 'at' : (path as keyof Typed);

interface Props {
  /** The place that is changed; null: a new one. */
  kept: (BackupPlan & { id: string }) | null;
  save: (plan: BackupPlan) => Promise<Backups>;
  done: () => void;
}

export function BackupForm({ kept, save, done }: Props) {
  const form = useSchemaForm<Typed, BackupPlan>(backupPlanSchema, typed(kept ?? PROPOSED), {
    ask: asked,
    faults: ({ at }) => ({ at: AT.test(at.trim()) ? null : 'A time of day, as in 22:30.' }),
    fieldOf,
  });
  const now = useWatch({ control: form.control }) as Typed;
  const submit = form.handleSubmit(async (plan) => {
    try {
      await save(plan);
      done();
    } catch (error) {
      tellRefused(form, error, fieldOf);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="backup-form">
      <FolderField form={form} />
      <WhenFields form={form} every={now.every} />
      <KeptFields form={form} />
      <BackupKey
        recipients={now.recipients}
        add={(recipient) =>
          form.setValue('recipients', [...now.recipients.split(/\s+/).filter(Boolean), recipient].join('\n'), {
            shouldDirty: true,
            shouldValidate: true,
          })
        }
      >
        <Field
          {...{ form, name: 'recipients', id: 'backup-recipients', as: 'textarea', rows: 2 }}
          label="Encrypt to (age keys, one in a line; empty: not encrypted)"
          placeholder="age1…"
          className="mono"
          autoComplete="off"
        />
      </BackupKey>
      <Form.Group controlId="backup-rehearse">
        <Form.Label>Rehearse bringing one back</Form.Label>
        <Form.Select {...form.register('rehearse')}>
          <option value="week">every week</option>
          <option value="month">every month</option>
          <option value="never">never by itself</option>
        </Form.Select>
      </Form.Group>
      <Does words={wouldDo(kept, now)} />
      <FormFault form={form} />
      <div className="d-flex gap-2">
        <Button type="submit" disabled={form.formState.isSubmitting || (kept !== null && !form.formState.isDirty)}>
          {kept ? 'Change these backups' : 'Make backups there'}
        </Button>
        <Button variant="plain" onMouseDown={keepFocus} onClick={done}>
          Leave it
        </Button>
      </div>
    </Form>
  );
}

/** What saving would do, in words; nothing while a time is half typed. */
function wouldDo(kept: BackupPlan | null, typedNow: Typed): string[] {
  if (!AT.test(typedNow.at.trim())) return [];
  const plan = asked(typedNow);
  return kept
    ? backupChangeWords(kept, plan)
    : [`The first is made at once, then one ${scheduleWords(plan)}. Kept is ${keptWords(plan)}.`];
}

function FolderField({ form }: { form: BackupFormState }) {
  const [facts, setFacts] = useState<BackupFolderFacts | null>(null);
  const look = async () => {
    const folder = form.getValues('folder').trim();
    setFacts(null);
    if (!folder.startsWith('/')) return;
    const found = await api<BackupFolderFacts>('POST', '/api/backups/look', { folder }).catch(() => null);
    if (form.getValues('folder').trim() === folder) setFacts(found);
  };
  return (
    <div>
      <Field
        {...{ form, name: 'folder', id: 'backup-folder', maxLength: 1000 }}
        label="Folder, on another disk or a mounted share"
        placeholder="/mnt/copies/quay"
        className="mono"
        onBlurCapture={() => void look()}
      />
      {facts && (
        <p className={facts.mark === 'ok' ? 'folder-look ok' : 'folder-look'} role="status">
          {facts.words}
        </p>
      )}
    </div>
  );
}

function WhenFields({ form, every }: { form: BackupFormState; every: BackupPlan['every'] }) {
  return (
    <div className="fields when">
      <Form.Group controlId="backup-every">
        <Form.Label>How often</Form.Label>
        <Form.Select {...form.register('every')}>
          <option value="hour">every hour</option>
          <option value="day">every day</option>
          <option value="week">every week</option>
        </Form.Select>
      </Form.Group>
      {every === 'week' && (
        <Form.Group controlId="backup-weekday">
          <Form.Label>On</Form.Label>
          <Form.Select {...form.register('weekday')}>
            {WEEKDAYS.map((day, index) => (
              <option key={day} value={index + 1}>
                {day}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
      )}
      <Field
        {...{ form, name: 'at', id: 'backup-at', maxLength: 5 }}
        label={every === 'hour' ? 'At (its minutes count)' : 'At'}
        placeholder="22:30"
      />
    </div>
  );
}

function KeptFields({ form }: { form: BackupFormState }) {
  return (
    <fieldset>
      <legend className="form-label">Keep one each for</legend>
      <div className="fields">
        {(['days', 'weeks', 'months'] as const).map((name) => (
          <Field
            key={name}
            {...{ form, name, id: `backup-${name}`, inputMode: 'numeric' }}
            label={name}
            maxLength={3}
          />
        ))}
      </div>
    </fieldset>
  );
}
