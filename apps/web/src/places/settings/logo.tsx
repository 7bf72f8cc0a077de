import type { LogoPicture } from '@quay/contract';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../../ui/api';
import { tellFailure, useNotices } from '../../ui/notices';
import { Failure } from '../../ui/states';
import { drawnAsLogo } from './draw-logo';
import './logo.scss';
import { logoQuery } from './queries';

/** The picture that visitors see above every share. */
export function LogoSettings() {
  const client = useQueryClient();
  const { data, error, refetch } = useQuery(logoQuery);
  const [busy, setBusy] = useState(false);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return null;
  const put = async (png: string | null) => {
    const kept =
      png === null
        ? await api<LogoPicture>('DELETE', '/api/settings/logo')
        : await api<LogoPicture>('PUT', '/api/settings/logo', { png });
    client.setQueryData(logoQuery.queryKey, kept);
  };
  const change = async (png: string | null) => {
    setBusy(true);
    try {
      await put(png);
      const words =
        png === null ? 'Visitors see the name of the office alone.' : 'Visitors see this above every share.';
      useNotices.getState().show(words, { undo: () => void put(data.png).catch(tellFailure) });
    } catch (failure) {
      tellFailure(failure);
    } finally {
      setBusy(false);
    }
  };
  const choose = async (file: File | undefined) => {
    if (!file) return;
    try {
      await change(await drawnAsLogo(file));
    } catch (failure) {
      tellFailure(failure);
    }
  };
  return (
    <div className="logo-settings">
      <h2 className="small-head">Logo on visitors’ pages</h2>
      {data.png === null ? (
        <p className="quiet">None. Visitors see the name of the office.</p>
      ) : (
        <img src={`data:image/png;base64,${data.png}`} alt="The logo as visitors see it" />
      )}
      <div className="d-flex flex-wrap gap-2">
        <label className="btn btn-plain" htmlFor="logo-file">
          {data.png === null ? 'Choose a picture' : 'Choose another'}
        </label>
        <input
          {...{ id: 'logo-file', type: 'file', className: 'visually-hidden', disabled: busy }}
          accept="image/png,image/jpeg,image/webp,image/svg+xml"
          onChange={(e) => {
            void choose(e.target.files?.[0]);
            // The same file can be chosen again.
            e.target.value = '';
          }}
        />
        {data.png !== null && (
          <Button variant="plain" disabled={busy} onClick={() => void change(null)}>
            Take it away
          </Button>
        )}
      </div>
    </div>
  );
}
