import {
  NETWORK_VALUE_WORDS,
  NETWORK_VALUES,
  networkValueSchema,
  type NetworkValue,
  type ReachNetwork,
} from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Field, FormFault, useSchemaForm, tellRefused, keepFocus } from '../../../ui/form';
import { Failure, SkeletonRows } from '../../../ui/states';
import { networkQuery, useNetworkFound, useNetworkSaid } from '../queries';

const WHENCE = {
  file: 'as the file says',
  settings: 'as you said',
  machine: 'found by itself',
  nobody: 'not known',
} as const;
/** Where that nobody says something means something. */
const UNSAID: Partial<Record<NetworkValue, string>> = {
  insideAddress6: 'none',
  resolvers: 'those of this machine',
  stun: 'nobody',
  authority: 'none',
};
const DOOR = { tls: 'Encrypted door', plain: 'Plain door' } as const;

/** How the server stands in its network, where each value is known from, and what it is to go by instead. */
export function OwnNetwork() {
  const { data, error, refetch } = useQuery(networkQuery);
  const [changing, setChanging] = useState<NetworkValue | null>(null);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={3} />;
  return (
    <div>
      <h2 className="small-head">This server in its network</h2>
      <p className="mb-1">{data.advice.words}</p>
      <dl className="facts mb-1">
        {NETWORK_VALUES.map((name) => (
          <Value key={name} {...{ name, told: data.own[name] }} change={() => setChanging(name)} />
        ))}
        <div className="d-contents">
          <dt>The line</dt>
          <dd>
            {data.publicAddress && <span className="mono text-break">{data.publicAddress}</span>}{' '}
            <span className="quiet">{data.publicAddress ? 'as the world sees it' : 'not known'}</span>
          </dd>
        </div>
        {data.doors.map((door) => (
          <Door key={`${door.kind} ${door.port}`} door={door} />
        ))}
      </dl>
      {changing && <SayValue key={changing} name={changing} told={data.own[changing]} done={() => setChanging(null)} />}
      {data.doors.length === 0 && <p className="needs-hand">No door is open, so nobody comes in from outside.</p>}
    </div>
  );
}

type Told = ReachNetwork['own'][NetworkValue];

function Value({ name, told, change }: { name: NetworkValue; told: Told; change: () => void }) {
  const { value, from } = told;
  return (
    <div className="d-contents">
      <dt>{NETWORK_VALUE_WORDS[name]}</dt>
      <dd>
        {value.length > 0 && <span className="mono text-break">{value.join(', ')}</span>}{' '}
        <span className="quiet">{from === 'nobody' ? (UNSAID[name] ?? WHENCE.nobody) : WHENCE[from]}</span>{' '}
        {from !== 'file' && (
          <Button
            size="sm"
            variant="link"
            className="p-0 align-baseline"
            aria-label={`Change: ${NETWORK_VALUE_WORDS[name]}`}
            onClick={change}
          >
            Change
          </Button>
        )}
      </dd>
    </div>
  );
}

const HINT: Record<NetworkValue, string> = {
  gateway: 'Its address inside, as in 192.168.20.1.',
  insideAddress: 'As the router knows this machine: where it leads requests to.',
  insideAddress6: 'Its own public address, as in 2001:db8:20::10.',
  resolvers: 'Addresses of the name servers that people in the office ask, with commas between them.',
  stun: 'Who tells the address of the line: names or addresses, with commas between them; a port behind a colon where it is not 3478.',
  authority: 'Its directory (ACME, RFC 8555), from https:// on.',
};

const listOf = (text: string): string[] =>
  text
    .split(/[\s,]+/)
    .map((part) => part.trim())
    .filter(Boolean);

/** One value, typed in. */
function SayValue({ name, told, done }: { name: NetworkValue; told: Told; done: () => void }) {
  const say = useNetworkSaid();
  const find = useNetworkFound();
  const form = useSchemaForm<{ text: string }, { value: string[] }>(
    networkValueSchema(name),
    { text: told.value.join(', ') },
    { ask: ({ text }) => ({ value: listOf(text) }), fieldOf: () => 'text' },
  );
  const submit = form.handleSubmit(async ({ value }) => {
    try {
      await say.mutateAsync({ name, value });
      done();
    } catch (error) {
      tellRefused(form, error, () => 'text');
    }
  });
  return (
    <>
      <p className="small quiet mb-1">{HINT[name]}</p>
      <Form className="key-form" noValidate onSubmit={(event) => void submit(event)}>
        <Field
          {...{ form, name: 'text', id: `say-${name}`, label: NETWORK_VALUE_WORDS[name], className: 'mono' }}
          autoFocus
          required
        />
        <FormFault form={form} />
        <div className="d-flex gap-2">
          <Button type="submit" variant="plain" disabled={say.isPending} onMouseDown={keepFocus}>
            Go by it
          </Button>
          {told.from === 'settings' && (
            <Button
              variant="plain"
              disabled={find.isPending}
              onMouseDown={keepFocus}
              onClick={() => find.mutate(name, { onSuccess: done })}
            >
              Go by what is found
            </Button>
          )}
          <Button variant="plain" onMouseDown={keepFocus} onClick={done}>
            Leave it
          </Button>
        </div>
      </Form>
    </>
  );
}

function Door({ door }: { door: ReachNetwork['doors'][number] }) {
  return (
    <div className="d-contents">
      <dt>{DOOR[door.kind]}</dt>
      <dd>
        <span className="mono">{door.port}</span>{' '}
        {door.fault ? <span className="needs-hand">{door.fault}</span> : <span className="quiet">open</span>}
      </dd>
    </div>
  );
}
