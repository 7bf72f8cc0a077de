import { officeSettingsSchema, VISITOR_WORDS_MAX, type OfficeSettings } from '@quay/contract';
import { officeChangeWords } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { useWatch } from 'react-hook-form';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { tellFailure, useNotices } from '../../ui/notices';
import { now } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import { ZoneField } from '../../ui/zone-field';
import { Does } from './does';
import { LogoSettings } from './logo';
import { officeQuery } from './queries';

export function OfficeSettingsForm() {
  const { data, error, refetch } = useQuery(officeQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  // A form about what is kept now: it begins anew when that changes.
  return data ? (
    <>
      <OfficeForm key={JSON.stringify(data)} kept={data} />
      <LogoSettings />
    </>
  ) : (
    <SkeletonRows count={4} />
  );
}

/** What a change would do; none while a zone is half typed. */
function changeWords(kept: OfficeSettings, typed: OfficeSettings): string[] {
  try {
    return officeChangeWords(kept, typed, now());
  } catch {
    return [];
  }
}

function OfficeForm({ kept }: { kept: OfficeSettings }) {
  const client = useQueryClient();
  const form = useSchemaForm<OfficeSettings>(officeSettingsSchema, kept);
  const does = changeWords(kept, useWatch({ control: form.control }) as OfficeSettings);
  const keep = async (asked: OfficeSettings) => {
    const answer = await api<OfficeSettings>('PUT', '/api/settings/office', asked);
    client.setQueryData(officeQuery.queryKey, answer);
    await client.invalidateQueries({ queryKey: ['me'] });
  };
  const submit = form.handleSubmit(async (asked) => {
    try {
      await keep(asked);
      const undo = () => void keep(kept).catch(tellFailure);
      useNotices.getState().show('The office is changed.', { undo });
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <Field {...{ form, name: 'name', id: 'office-name' }} label="Name of the office" required maxLength={80} />
      <ZoneField form={form} id="office-zone" />
      <Field
        {...{ form, name: 'words', id: 'visitor-words', as: 'textarea', rows: 3, maxLength: VISITOR_WORDS_MAX }}
        label="Words that visitors read under every share; none are needed"
      />
      <Form.Check id="homes" label="Everybody gets a place of their own" {...form.register('homes')} />
      <Does words={does} />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting || !form.formState.isDirty}>
          Change the office
        </Button>
      </div>
    </Form>
  );
}
