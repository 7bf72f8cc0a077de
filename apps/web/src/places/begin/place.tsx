import { setupPlaceSchema, type SetupCandidate, type SetupPlace, type SetupState } from '@quay/contract';
import { formatSize } from '@quay/core';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { Field, FormFault, tellRefused, useSchemaForm } from '../../ui/form';
import { Failure } from '../../ui/states';
import type { StepProps } from './steps';

const KEY = ['setup', 'places'] as const;

export function PlaceStep({ state, done }: StepProps) {
  const { data, error, isPending, refetch } = useQuery({
    queryKey: KEY,
    queryFn: () => api<SetupCandidate[]>('GET', '/api/setup/places'),
    // Measuring writes to the disks.
    staleTime: Infinity,
  });
  const [picked, setPicked] = useState(state.answers.place?.folder ?? null);
  const [other, setOther] = useState(false);
  const [fault, setFault] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  if (isPending)
    return (
      <p role="status">
        Looking at the disks of this machine: room, kind, and how fast they write. It takes a few seconds.
      </p>
    );
  if (error) return <Failure error={error} again={() => void refetch()} />;
  const folder = picked ?? data.find((c) => c.mark === 'ok')?.folder ?? data[0]?.folder ?? state.proposedPlace;
  const chosen = data.find((c) => c.folder === folder);
  const use = async () => {
    setBusy(true);
    try {
      const asked = { folder, anyway: chosen?.mark === 'fail' };
      done(await api<SetupState>('PUT', '/api/setup/place', asked));
    } catch (refused) {
      setFault(refused);
    } finally {
      setBusy(false);
    }
  };
  return (
    <>
      <p>Bytes are kept in one folder on this machine, named by their hash. Choose a disk with room to grow.</p>
      <fieldset className="begin-places">
        <legend className="visually-hidden">Folder</legend>
        {data.map((c) => (
          <label key={c.folder}>
            <input
              type="radio"
              className="form-check-input"
              name="place"
              checked={c.folder === folder}
              onChange={() => setPicked(c.folder)}
            />
            <span className="mono">{c.folder}</span>
            <span>{formatSize(c.freeBytes)} free</span>
            <span className={`begin-${c.mark}`}>{c.words}</span>
          </label>
        ))}
      </fieldset>
      {fault !== null && <Failure error={fault} />}
      {other ? (
        <OtherFolder picked={(c) => (setPicked(c.folder), setOther(false))} />
      ) : (
        <div className="d-flex flex-wrap gap-2">
          <Button
            disabled={busy || chosen?.takeable === false}
            variant={chosen?.mark === 'fail' ? 'danger' : 'primary'}
            onClick={() => void use()}
          >
            {busy ? 'Measuring' : chosen?.mark === 'fail' && chosen.takeable ? `Use ${folder} anyway` : `Use ${folder}`}
          </Button>
          <Button variant="plain" onClick={() => setOther(true)}>
            Another folder
          </Button>
        </div>
      )}
    </>
  );
}

/** A folder that is typed: measured like the others, and then one of them. */
function OtherFolder({ picked }: { picked: (found: SetupCandidate) => void }) {
  const client = useQueryClient();
  const form = useSchemaForm<SetupPlace>(setupPlaceSchema, { folder: '' });
  const submit = form.handleSubmit(async (asked) => {
    try {
      const found = await api<SetupCandidate>('POST', '/api/setup/places', asked);
      client.setQueryData<SetupCandidate[]>(KEY, (known = []) => [
        ...known.filter((c) => c.folder !== found.folder),
        found,
      ]);
      picked(found);
    } catch (error) {
      tellRefused(form, error);
    }
  });
  return (
    <Form noValidate onSubmit={(e) => void submit(e)} className="d-grid gap-2">
      <Field {...{ form, name: 'folder', id: 'folder' }} label="Folder" placeholder="/srv/quay" autoFocus required />
      <FormFault form={form} />
      <div>
        <Button type="submit" disabled={form.formState.isSubmitting}>
          {form.formState.isSubmitting ? 'Measuring' : 'Look at it'}
        </Button>
      </div>
    </Form>
  );
}
