import type { TextGatewayAsked, TextGatewaySettings, TextTrialAnswer } from '@quay/contract';
import { GATEWAY_FORMAT_WORDS, GATEWAY_FORMATS, gatewayFault, type GatewayField, type GatewayFormat } from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useNotices } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { textGatewayQuery } from './queries';

/** The gateway through which codes go to telephones. */
export function TextMessagesForm() {
  const { data, error, refetch } = useQuery(textGatewayQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  return <GatewayForm key={JSON.stringify(data)} kept={data} />;
}

const NEW_FIELDS = 'to={to}\ntext={text}';

/** A name and a value on each line, with = between them. */
const linesOf = (fields: readonly GatewayField[]): string => fields.map((f) => `${f.name}=${f.value}`).join('\n');

function fieldsIn(lines: string): GatewayField[] {
  return lines
    .split('\n')
    .filter((line) => line.trim() !== '')
    .map((line) => {
      const at = line.indexOf('=');
      return at < 0 ? { name: line.trim(), value: '' } : { name: line.slice(0, at).trim(), value: line.slice(at + 1) };
    });
}

interface Typed {
  url: string;
  format: GatewayFormat;
  fields: string;
  headers: string;
  /** Null: the one that is kept. */
  secret: string | null;
}

const askedBy = ({ url, format, fields, headers, secret }: Typed): TextGatewayAsked => ({
  ...{ url: url.trim(), format, fields: fieldsIn(fields), headers: fieldsIn(headers) },
  ...(secret !== null && { secret }),
});

function GatewayForm({ kept: { gateway, hasSecret } }: { kept: TextGatewaySettings }) {
  const client = useQueryClient();
  const [typed, setTyped] = useState<Typed>({
    url: gateway?.url ?? '',
    format: gateway?.format ?? 'form',
    fields: gateway ? linesOf(gateway.fields) : NEW_FIELDS,
    headers: linesOf(gateway?.headers ?? []),
    secret: null,
  });
  const asked = askedBy(typed);
  const fault = asked.url === '' ? null : gatewayFault(asked);
  const show = (settings: TextGatewaySettings, words: string) => {
    client.setQueryData(textGatewayQuery.queryKey, settings);
    useNotices.getState().show(words);
  };
  const keep = useMutation({
    mutationFn: () => api<TextGatewaySettings>('PUT', '/api/settings/text-messages', asked),
    onSuccess: (settings) => show(settings, 'Codes go to telephones through it from now on.'),
  });
  const without = useMutation({
    mutationFn: () => api<TextGatewaySettings>('DELETE', '/api/settings/text-messages'),
    onSuccess: (settings) => show(settings, 'No text messages go out from now on.'),
  });
  const isBusy = keep.isPending || without.isPending;
  const isReady = asked.url !== '' && !fault && !isBusy;
  const failure = keep.error ?? without.error;
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (isReady) keep.mutate();
      }}
    >
      <p className="mb-0">
        Shares can be for telephone numbers, too: whoever opens one proves theirs by a code that is sent there. For that
        a provider of text messages is asked over HTTP, as its own instructions say.
      </p>
      <GatewayFields
        typed={typed}
        set={(part) => setTyped({ ...typed, ...part })}
        wrong={fault?.field ?? null}
        hasSecret={hasSecret}
      />
      {fault && <p className="field-fault mb-0">{fault.words}</p>}
      {failure && (
        <p className="field-fault mb-0" role="alert">
          {failure.message}
        </p>
      )}
      <div className="d-flex flex-wrap gap-2">
        <Button type="submit" disabled={!isReady}>
          Use this gateway
        </Button>
        {gateway && (
          <Button variant="plain" disabled={isBusy} onClick={() => without.mutate()}>
            Send no text messages
          </Button>
        )}
      </div>
      <Trial asked={asked} isReady={isReady} />
    </Form>
  );
}

interface GatewayFieldsProps {
  typed: Typed;
  set: (part: Partial<Typed>) => void;
  /** The field that something is wrong with. */
  wrong: string | null;
  hasSecret: boolean;
}

function GatewayFields({ typed, set, wrong, hasSecret }: GatewayFieldsProps) {
  return (
    <>
      <Form.Group controlId="texts-url">
        <Form.Label>Address of the gateway</Form.Label>
        <Form.Control
          className="mono"
          placeholder="https://"
          value={typed.url}
          onChange={(e) => set({ url: e.target.value })}
          isInvalid={wrong === 'url'}
        />
      </Form.Group>
      <Form.Group controlId="texts-format">
        <Form.Label>How it is told</Form.Label>
        <Form.Select value={typed.format} onChange={(e) => set({ format: e.target.value as GatewayFormat })}>
          {GATEWAY_FORMATS.map((each) => (
            <option key={each} value={each}>
              {GATEWAY_FORMAT_WORDS[each]}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Lines
        id="texts-fields"
        label="Fields"
        said="One on each line, name=value. {to} is the number with +, {digits} without, {text} the message, {secret} the secret below."
        lines={typed.fields}
        type={(fields) => set({ fields })}
        isWrong={wrong === 'fields'}
      />
      <Lines
        id="texts-headers"
        label="Headers"
        said="Where the provider wants any: Authorization=Bearer {secret}."
        lines={typed.headers}
        type={(headers) => set({ headers })}
        isWrong={wrong === 'headers'}
      />
      <Form.Group controlId="texts-secret">
        <Form.Label>Secret</Form.Label>
        <Form.Control
          type="password"
          autoComplete="off"
          placeholder={hasSecret ? 'the one that is kept' : 'none'}
          value={typed.secret ?? ''}
          onChange={(e) => set({ secret: e.target.value })}
        />
      </Form.Group>
    </>
  );
}

/** A real message by what is typed, kept or not. */
function Trial({ asked, isReady }: { asked: TextGatewayAsked; isReady: boolean }) {
  const [to, setTo] = useState('');
  const { data, error, isPending, mutate } = useMutation({
    mutationFn: () => api<TextTrialAnswer>('POST', '/api/settings/text-messages/trial', { ...asked, to }),
  });
  return (
    <>
      <Form.Group controlId="texts-to" className="mt-2">
        <Form.Label>Send a test message to</Form.Label>
        <div className="d-flex flex-wrap gap-2">
          <Form.Control
            className="mono w-auto"
            placeholder="+44 7700 900123"
            value={to}
            onChange={(e) => setTo(e.target.value)}
          />
          <Button variant="plain" disabled={!isReady || isPending || to.trim() === ''} onClick={() => mutate()}>
            {isPending ? 'Sending' : 'Send it'}
          </Button>
        </div>
      </Form.Group>
      {error && (
        <p className="field-fault mb-0" role="alert">
          {error.message}
        </p>
      )}
      {data && (
        <p className={data.sent ? 'mb-0' : 'field-fault mb-0'} role="status">
          {data.sent ? 'The gateway took it: ' : 'The gateway did not take it: '}
          <span className="mono">{data.words}</span>
        </p>
      )}
    </>
  );
}

interface LinesProps {
  id: string;
  label: string;
  said: string;
  lines: string;
  type: (lines: string) => void;
  isWrong: boolean;
}

function Lines({ id, label, said, lines, type, isWrong }: LinesProps) {
  return (
    <Form.Group controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Control
        as="textarea"
        rows={3}
        className="mono"
        spellCheck={false}
        value={lines}
        isInvalid={isWrong}
        onChange={(e) => type(e.target.value)}
      />
      <Form.Text>{said}</Form.Text>
    </Form.Group>
  );
}
