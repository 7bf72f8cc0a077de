import type { KeepTemplate, SlipTemplate } from '@quay/contract';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { grantableQuery } from '../ui/access/queries';
import { api } from '../ui/api';
import type { JudgedAudience } from '../ui/audience/chosen';
import { tellFailure, useNotices } from '../ui/notices';
import { templatesQuery } from '../ui/queries';
import { now, useMe, useZone } from '../ui/session';
import { useSlip } from './store';
import { termsOf, withTemplate } from './template';

/** Takes the choices of a template over. */
export function ChooseTemplate() {
  const zone = useZone();
  const { data: templates } = useQuery(templatesQuery);
  const { data: grantable } = useQuery(grantableQuery);
  if (!templates || templates.length === 0) return null;
  const use = (id: string) => {
    const template = templates.find((t) => t.id === id);
    if (!template) return;
    const names = new Map([...(grantable?.groups ?? []), ...(grantable?.people ?? [])].map((s) => [s.id, s.name]));
    useSlip.getState().set(withTemplate(template.terms, names, now(), zone));
    useNotices.getState().show(`Who, when and guard are as in ${template.name}.`);
  };
  return (
    <Form.Select size="sm" aria-label="Template" value="" onChange={(e) => use(e.target.value)}>
      <option value="">template</option>
      {templates.map((t) => (
        <option key={t.id} value={t.id}>
          {t.name}
          {t.office ? ', of the office' : ''}
        </option>
      ))}
    </Form.Select>
  );
}

/** Keeps the choices of the slip with a name, and takes such away. */
export function KeepTemplates({ judged }: { judged: JudgedAudience }) {
  const zone = useZone();
  const me = useMe();
  const client = useQueryClient();
  const show = (kept: SlipTemplate[]) => client.setQueryData(templatesQuery.queryKey, kept);
  const { data: templates = [] } = useQuery(templatesQuery);
  const [name, setName] = useState('');
  const [office, setOffice] = useState(false);
  const runs = me.duties.includes('run-server');
  const keep = useMutation({
    mutationFn: (asked: KeepTemplate) => api<SlipTemplate[]>('POST', '/api/templates', asked),
    onSuccess: (kept) => {
      show(kept);
      useNotices.getState().show(`${name.trim()} is kept. Choose it at the top of the slip.`);
      setName('');
    },
  });
  const asked = () => ({ name: name.trim(), office, terms: termsOf(useSlip.getState(), judged, now(), zone) });
  return (
    <details className="part d-block">
      <summary className="small quiet">Keep these choices as a template</summary>
      <div className="d-flex gap-2 mt-2">
        <Form.Control
          size="sm"
          aria-label="Name of the template"
          placeholder="Tender, strict"
          maxLength={80}
          value={name}
          onChange={(e) => setName(e.target.value)}
          // It is within the form of the slip, which is not what is meant here.
          onKeyDown={(e) => {
            if (e.key !== 'Enter') return;
            e.preventDefault();
            if (name.trim() !== '') keep.mutate(asked());
          }}
        />
        <Button
          size="sm"
          variant="plain"
          disabled={name.trim() === '' || keep.isPending}
          onClick={() => keep.mutate(asked())}
        >
          Keep
        </Button>
      </div>
      {runs && (
        <Form.Check
          className="mt-1 small"
          id="template-office"
          label="For all of the office"
          checked={office}
          onChange={(e) => setOffice(e.target.checked)}
        />
      )}
      {keep.error && (
        <div className="field-fault" role="alert">
          {keep.error.message}
        </div>
      )}
      <Kept templates={templates.filter((t) => !t.office || runs)} show={show} />
    </details>
  );
}

/** Those that whoever looks may take away. */
function Kept({ templates, show }: { templates: SlipTemplate[]; show: (kept: SlipTemplate[]) => void }) {
  const remove = useMutation({
    mutationFn: (id: string) => api<SlipTemplate[]>('DELETE', `/api/templates/${id}`),
    onSuccess: show,
    onError: tellFailure,
  });
  return (
    <ul className="what mt-1">
      {templates.map((t) => (
        <li key={t.id}>
          <div className="line">
            <span className="label">{t.name}</span>
            {t.office && <span className="quiet small">of the office</span>}
            <button
              type="button"
              className="off ms-auto"
              aria-label={`Remove the template ${t.name}`}
              onClick={() => remove.mutate(t.id)}
            >
              <i className="bi bi-x-lg" aria-hidden />
            </button>
          </div>
        </li>
      ))}
    </ul>
  );
}
