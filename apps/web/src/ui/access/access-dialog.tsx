import { newGrantSchema, type FolderAccess, type GrantRow, type NewGrant } from '@quay/contract';
import {
  ACCESS_LEVELS,
  fromLocalField,
  LEVEL_WORDS,
  toLocalField,
  type AccessLevel,
  type OthersRule,
} from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Button, Form, Modal } from 'react-bootstrap';
import { Field, FormFault, tellRefused, useSchemaForm } from '../form';
import { useZone } from '../session';
import { Failure, SkeletonRows } from '../states';
import { When } from '../words';
import { useAccessVerbs } from './access-verbs';
import { accessQuery, grantableQuery } from './queries';
import './access-dialog.scss';

const OTHERS_WORDS: Record<OthersRule, string> = {
  nothing: 'see nothing of what others brought',
  see: 'see names of what others brought',
  read: 'open what others brought',
};

/** Grants, and what a folder takes over: changed at once, each with its way back. */
export function AccessDialog({ folderId, close }: { folderId: string; close: () => void }) {
  const { data: access, error, refetch } = useQuery(accessQuery(folderId));
  return (
    <Modal show size="lg" scrollable onHide={close} aria-labelledby="access-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="access-title">
          Who reaches {access?.name ?? 'it'}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body className="access-dialog">
        {error && <Failure error={error} again={() => void refetch()} />}
        {!access && !error && <SkeletonRows count={3} />}
        {access && (
          <>
            <Grants access={access} />
            <AddGrant access={access} />
            <Rules access={access} />
            <Over grants={access.over} />
          </>
        )}
      </Modal.Body>
    </Modal>
  );
}

function Grants({ access }: { access: FolderAccess }) {
  if (access.grants.length === 0)
    return <p className="quiet">Nobody was granted anything here. Only the admin can say who reaches it.</p>;
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>Granted to</th>
          <th>Level</th>
          <th>Until</th>
          <th>On</th>
          <th>
            <span className="visually-hidden">End it</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {access.grants.map((g) =>
          g.folderId === access.folderId ? (
            <OwnGrant key={g.id} access={access} grant={g} />
          ) : (
            <tr key={g.id}>
              <td>{g.subject.name}</td>
              <td>{LEVEL_WORDS[g.level]}</td>
              <td>{g.until ? <When at={g.until} brief /> : <span className="quiet">no end</span>}</td>
              <td className="quiet">{g.folderName ?? 'a folder above'}</td>
              <td />
            </tr>
          ),
        )}
      </tbody>
    </table>
  );
}

function OwnGrant({ access, grant }: { access: FolderAccess; grant: GrantRow }) {
  const verbs = useAccessVerbs(access.folderId);
  const zone = useZone();
  const until = grant.until ? toLocalField(Date.parse(grant.until), zone).slice(0, 10) : '';
  const change = (part: { level?: AccessLevel; until?: string }) =>
    verbs.replace.mutate({
      grant,
      level: part.level ?? grant.level,
      until: part.until === undefined ? grant.until : endOfDay(part.until, zone),
    });
  return (
    <tr>
      <td>
        {grant.subject.name}
        {grant.state === 'coming' && (
          <span className="quiet">
            {' '}
            from <When at={grant.since} brief />
          </span>
        )}
      </td>
      <td>
        <LevelSelect
          label={`Level of ${grant.subject.name}`}
          value={grant.level}
          choose={(level) => change({ level })}
        />
      </td>
      <td>
        <Form.Control
          type="date"
          size="sm"
          aria-label={`Last day of ${grant.subject.name}`}
          value={until}
          onChange={(e) => change({ until: e.target.value })}
        />
      </td>
      <td className="quiet">this folder</td>
      <td className="number">
        <Button variant="plain" size="sm" onClick={() => verbs.end.mutate(grant)}>
          End<span className="visually-hidden"> what {grant.subject.name} has here</span>
        </Button>
      </td>
    </tr>
  );
}

interface TypedGrant {
  /** "staff", or the kind and the id. */
  subject: string;
  level: AccessLevel;
  lastDay: string;
}

function AddGrant({ access }: { access: FolderAccess }) {
  const verbs = useAccessVerbs(access.folderId);
  const zone = useZone();
  const initial: TypedGrant = { subject: '', level: 'download', lastDay: '' };
  const form = useSchemaForm<TypedGrant, NewGrant>(newGrantSchema, initial, {
    ask: ({ subject, level, lastDay }) => {
      const [kind, id] = subject.split(' ') as [NewGrant['subject']['kind'], string | undefined];
      return { subject: id ? { kind, id } : { kind }, level, until: endOfDay(lastDay, zone) };
    },
    fieldOf: (path) => (path === 'until' ? 'lastDay' : 'subject'),
  });
  const { subject, level } = form.watch();
  const submit = form.handleSubmit(async (asked) => {
    try {
      await verbs.grant.mutateAsync(asked);
      form.reset({ subject: '', level, lastDay: '' });
    } catch (error) {
      tellRefused(form, error, (path) => (path === 'until' ? 'lastDay' : 'subject'));
    }
  });
  return (
    <Form className="grant-new" noValidate onSubmit={(e) => void submit(e)}>
      <Form.Group controlId="grant-subject">
        <Form.Label>Grant to</Form.Label>
        <Form.Select size="sm" {...form.register('subject')}>
          <option value="">Choose somebody</option>
          <Subjects access={access} />
        </Form.Select>
      </Form.Group>
      <div>
        <Form.Label htmlFor="grant-level">Level</Form.Label>
        <LevelSelect id="grant-level" value={level} choose={(chosen) => form.setValue('level', chosen)} />
      </div>
      <Field form={form} name="lastDay" id="grant-until" label="Last day, if any" type="date" size="sm" />
      <Button type="submit" size="sm" disabled={!subject || verbs.grant.isPending}>
        Grant
      </Button>
      <FormFault form={form} />
    </Form>
  );
}

/** Those who have no grant of their own on the folder yet. */
function Subjects({ access }: { access: FolderAccess }) {
  const { data: grantable } = useQuery(grantableQuery);
  const here = access.grants.filter((g) => g.folderId === access.folderId);
  const free = (kind: string, id: string | null) => !here.some((g) => g.subject.kind === kind && g.subject.id === id);
  const groups = grantable?.groups.filter((g) => free('group', g.id)) ?? [];
  const people = grantable?.people.filter((p) => free('person', p.id)) ?? [];
  return (
    <>
      {free('staff', null) && <option value="staff">All staff</option>}
      <optgroup label="Groups">
        {groups.map((g) => (
          <option key={g.id} value={`group ${g.id}`}>
            {g.name} ({g.people})
          </option>
        ))}
      </optgroup>
      <optgroup label="People">
        {people.map((p) => (
          <option key={p.id} value={`person ${p.id}`}>
            {p.name}
            {p.guest && ', guest'}
          </option>
        ))}
      </optgroup>
    </>
  );
}

function Rules({ access }: { access: FolderAccess }) {
  const verbs = useAccessVerbs(access.folderId);
  return (
    <div className="access-rules">
      {!access.top && (
        <Form.Check
          type="switch"
          id="access-inherits"
          label="What is granted above counts here too"
          checked={access.inherits}
          onChange={(e) => verbs.change.mutate({ inherits: e.target.checked })}
        />
      )}
      <Form.Group controlId="access-others" className="others">
        <Form.Label>Those who may only add files</Form.Label>
        <Form.Select
          size="sm"
          value={access.othersRuleHere ?? ''}
          onChange={(e) => verbs.change.mutate({ othersRule: (e.target.value || null) as OthersRule | null })}
        >
          <option value="">as above: {OTHERS_WORDS[access.othersRule]}</option>
          {Object.entries(OTHERS_WORDS).map(([rule, words]) => (
            <option key={rule} value={rule}>
              {words}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
    </div>
  );
}

function Over({ grants }: { grants: GrantRow[] }) {
  if (grants.length === 0) return null;
  return (
    <details className="over">
      <summary>Ended here: {grants.length}</summary>
      <ul>
        {grants.map((g) => (
          <li key={g.id} className="quiet">
            {g.subject.name} {LEVEL_WORDS[g.level]}, from <When at={g.since} brief /> to{' '}
            <When at={earlier(g.endedAt, g.until)} brief />
            {g.endedBy && `, ended by ${g.endedBy}`}
          </li>
        ))}
      </ul>
    </details>
  );
}

function LevelSelect({
  id,
  label,
  value,
  choose,
}: {
  id?: string;
  label?: string;
  value: AccessLevel;
  choose: (level: AccessLevel) => void;
}) {
  return (
    <Form.Select
      size="sm"
      id={id}
      aria-label={label}
      value={value}
      onChange={(e) => choose(e.target.value as AccessLevel)}
    >
      {ACCESS_LEVELS.map((l) => (
        <option key={l} value={l}>
          {LEVEL_WORDS[l]}
        </option>
      ))}
    </Form.Select>
  );
}

/** The last minute of a day in the office's zone, as the API takes it; null for no day. */
function endOfDay(day: string, zone: string): string | null {
  const at = day === '' ? null : fromLocalField(`${day}T23:59`, zone);
  return at === null ? null : new Date(at).toISOString();
}

const earlier = (a: string | null, b: string | null): string =>
  a === null || (b !== null && b < a) ? (b as string) : a;
