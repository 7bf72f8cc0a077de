import type { GuardrailsAsked, GuardrailsKept, GuardrailTrial } from '@quay/contract';
import {
  AUDIENCES,
  countOf,
  extendedBy,
  SHARE_LEVEL_WORDS,
  listedText,
  LONGEST_DAYS_RANGE,
  momentInWords,
  NO_GUARDRAILS,
  SHARE_LEVELS,
  typedNumber,
  VISIT_LIMIT_RANGE,
  type AudienceKind,
  type Guardrails,
} from '@quay/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Button, Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { ListField } from '../../ui/audience/audience-field';
import { useReadList } from '../../ui/audience/chosen';
import { useNotices } from '../../ui/notices';
import { useMe, useNow, useZone } from '../../ui/session';
import { Failure, SkeletonRows } from '../../ui/states';
import { guardrailsQuery } from './queries';
import './guardrails.scss';

/** What shares keep to: for the office, and for each store what holds there besides. */
export function GuardrailsSettings() {
  const { data, error, refetch } = useQuery(guardrailsQuery);
  const [of, setOf] = useState('office');
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={5} />;
  const store = data.stores.find((s) => s.storeId === of);
  const kept = store ? { ...NO_GUARDRAILS, ...store.rules } : data.office;
  return (
    <section className="guardrails">
      <h2 className="small-head">Guardrails</h2>
      <p className="mb-2">
        What shares and intakes keep to, also those that are out already: one that does not is closed until it does.
        Where several rules hold, the strictest does. Nothing is taken in from outside where visitors may not add files.
      </p>
      <Form.Select className="mb-3" aria-label="Whose guardrails" value={of} onChange={(e) => setOf(e.target.value)}>
        <option value="office">All of the office</option>
        {data.stores.map((s) => (
          <option key={s.storeId} value={s.storeId}>
            {s.name}
            {s.rules ? ', has rules of its own' : ''}
          </option>
        ))}
      </Form.Select>
      <RailsForm key={`${of} ${JSON.stringify(kept)}`} of={of} kept={kept} />
    </section>
  );
}

interface Typed extends Omit<Guardrails, 'longestDays' | 'mostVisits' | 'domains' | 'addresses'> {
  longest: string | null;
  visits: string | null;
  domains: string;
  /** By their ids. */
  addresses: string[];
}

const typedOf = ({ longestDays, mostVisits, domains, addresses, ...rest }: Guardrails): Typed => ({
  ...rest,
  longest: longestDays === null ? null : String(longestDays),
  visits: mostVisits === null ? null : String(mostVisits),
  domains: domains.map(listedText).join('\n'),
  addresses: addresses.map((a) => a.id),
});

function RailsForm({ of, kept }: { of: string; kept: Guardrails }) {
  const client = useQueryClient();
  const [typed, setTyped] = useState(() => typedOf(kept));
  const [trial, setTrial] = useState<GuardrailTrial | null>(null);
  const set = (part: Partial<Typed>) => {
    setTyped({ ...typed, ...part });
    setTrial(null);
  };
  const read = useReadList(typed.domains);
  const { asked, fault } = judged(typed, read);
  const save = useMutation({
    mutationFn: (rails: GuardrailsAsked) => api<GuardrailsKept>('PUT', `/api/guardrails/${of}`, rails),
    onSuccess: (all) => {
      client.setQueryData(guardrailsQuery.queryKey, all);
      useNotices.getState().show('That holds from now on.');
    },
  });
  const look = useMutation({
    mutationFn: (rails: GuardrailsAsked) => api<GuardrailTrial>('POST', `/api/guardrails/${of}/trial`, rails),
    onSuccess: (found, rails) => {
      if (found.closes.length === 0) save.mutate(rails);
      else setTrial(found);
    },
  });
  const failure = save.error ?? look.error;
  return (
    <Form
      className="d-grid gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (!asked) return;
        if (trial) save.mutate(asked);
        else look.mutate(asked);
      }}
    >
      <WindowRails typed={typed} set={set} />
      <PasswordRails typed={typed} set={set} />
      <WhoRails typed={typed} set={set} read={read} />
      <AddressRails typed={typed} set={set} />
      {fault && <p className="field-fault mb-0">{fault}</p>}
      {failure && (
        <p className="field-fault mb-0" role="alert">
          {failure.message}
        </p>
      )}
      {trial && <Touched trial={trial} />}
      <div className="d-flex gap-2">
        <Button type="submit" disabled={!asked || save.isPending || look.isPending}>
          {look.isPending
            ? 'Looking at shares'
            : trial
              ? `Close ${(trial.closes.length + trial.more).toLocaleString('en-GB')} and save`
              : 'Save'}
        </Button>
        {trial && (
          <Button variant="plain" onClick={() => setTrial(null)}>
            Not yet
          </Button>
        )}
      </div>
    </Form>
  );
}

/** Which shares that are out would be closed. */
function Touched({ trial: { closes, more, opens } }: { trial: GuardrailTrial }) {
  return (
    <div className="touched" role="status">
      <b>
        {countOf(closes.length + more, 'share or intake that is out does', 'shares and intakes that are out do')} not
        keep to that:
      </b>
      <ul>
        {closes.map((share) => (
          <li key={share.id}>
            {share.title === null ? (
              'one that is closed to you'
            ) : (
              <Link to={`/${share.kind}s/${share.id}`} className="link-body-emphasis">
                {share.title}
              </Link>
            )}{' '}
            <span className="quiet">
              by {share.by}. {share.words}
            </span>
          </li>
        ))}
      </ul>
      {more > 0 && <p className="quiet mb-1">And {more.toLocaleString('en-GB')} more.</p>}
      {opens > 0 && <p className="quiet mb-1">{countOf(opens, 'opens', 'open')} again.</p>}
      <p className="mb-0">They are closed at once and whoever made them is told. Nothing of them is lost.</p>
    </div>
  );
}

interface RailsProps {
  typed: Typed;
  set: (part: Partial<Typed>) => void;
}

function WindowRails({ typed, set }: RailsProps) {
  const zone = useZone();
  const now = useNow();
  const { value: days } = typedNumber(typed.longest ?? '', LONGEST_DAYS_RANGE);
  return (
    <fieldset>
      <legend>When</legend>
      <Rail
        id="rail-longest"
        on={typed.longest !== null}
        set={(on) => set({ longest: on ? '30' : null })}
        label="is open for at most"
        field={
          <NumberField label="Days at most" unit="days" value={typed.longest} set={(longest) => set({ longest })} />
        }
        example={
          days === null ? null : `Made now, it closes by ${momentInWords(extendedBy(now, days, zone), now, zone)}.`
        }
      />
      <Rail
        id="rail-end"
        on={typed.endNeeded}
        set={(endNeeded) => set({ endNeeded })}
        label="has an end"
        example="“Until somebody closes it” is refused."
      />
      <Rail
        id="rail-visits"
        on={typed.visits !== null}
        set={(on) => set({ visits: on ? '100' : null })}
        label="has at most"
        field={
          <NumberField label="Visits at most" unit="visits" value={typed.visits} set={(visits) => set({ visits })} />
        }
        example={null}
      />
    </fieldset>
  );
}

function PasswordRails({ typed, set }: RailsProps) {
  return (
    <fieldset>
      <legend>Guard</legend>
      <Rail
        id="rail-password"
        on={typed.passwordNeeded}
        set={(passwordNeeded) => set({ passwordNeeded })}
        label="has a password"
        example="The link alone opens nothing."
      />
      <Rail
        id="rail-strong"
        on={typed.strongPassword}
        set={(strongPassword) => set({ strongPassword })}
        label="has none that is easy to guess"
        example="“summer2026” is refused, also for whoever means it."
      />
      <Rail
        id="rail-watermark"
        on={typed.watermarkNeeded}
        set={(watermarkNeeded) => set({ watermarkNeeded })}
        label="gives copies that are marked for whoever takes them"
        example="Each page of a PDF says who took it and when. Look only always does."
      />
      <Rail
        id="rail-factor"
        on={typed.factorNeeded}
        set={(factorNeeded) => set({ factorNeeded })}
        label="is published by somebody with a second factor"
        example="Whoever has none is told to set one up first."
      />
    </fieldset>
  );
}

const AUDIENCE_LABELS: Record<AudienceKind, string> = {
  anyone: 'anyone with the link',
  verified: 'whoever proves an address',
  listed: 'those listed',
  members: 'members, signed in',
};

function WhoRails({ typed, set, read }: RailsProps & { read: ReturnType<typeof useReadList> }) {
  const toggled = <T,>(all: readonly T[], chosen: readonly T[], each: T) =>
    all.filter((one) => (one === each ? !chosen.includes(one) : chosen.includes(one)));
  return (
    <>
      <fieldset>
        <legend>May be for</legend>
        {AUDIENCES.map((each) => (
          <Rail
            key={each}
            id={`rail-for-${each}`}
            on={typed.audiences.includes(each)}
            set={() => set({ audiences: toggled(AUDIENCES, typed.audiences, each) })}
            label={AUDIENCE_LABELS[each]}
            example={null}
          />
        ))}
        <details open={typed.domains !== ''}>
          <summary className="small">Lists hold only addresses of certain domains</summary>
          <ListField
            label="Domains that lists may hold"
            placeholder="fenway.example, *.brookline.example"
            text={typed.domains}
            type={(domains) => set({ domains })}
            read={read ?? undefined}
          />
        </details>
      </fieldset>
      <fieldset>
        <legend>Visitors may</legend>
        {SHARE_LEVELS.map((each) => (
          <Rail
            key={each}
            id={`rail-may-${each}`}
            on={typed.levels.includes(each)}
            set={() => set({ levels: toggled(SHARE_LEVELS, typed.levels, each) })}
            label={SHARE_LEVEL_WORDS[each].toLowerCase()}
            example={null}
          />
        ))}
      </fieldset>
    </>
  );
}

/** Which of the office's addresses links are built on. */
function AddressRails({ typed, set }: RailsProps) {
  const { addresses } = useMe();
  const isHeld = typed.addresses.length > 0;
  const all = addresses.map((a) => a.id);
  // What is not there any more is not asked for again.
  const chosen = (id: string, on: boolean) => all.filter((each) => (each === id ? on : typed.addresses.includes(each)));
  if (addresses.length < 2 && !isHeld) return null;
  return (
    <fieldset>
      <legend>Links are built on</legend>
      {addresses.map((a) => (
        <Rail
          key={a.id}
          id={`rail-address-${a.id}`}
          on={!isHeld || typed.addresses.includes(a.id)}
          set={(on) => {
            const next = isHeld ? chosen(a.id, on) : all.filter((id) => id !== a.id);
            set({ addresses: next.length === all.length ? [] : next });
          }}
          label={a.text}
          example={null}
        />
      ))}
    </fieldset>
  );
}

interface NumberFieldProps {
  label: string;
  unit: string;
  /** Null: the rule is off. */
  value: string | null;
  set: (text: string) => void;
}

function NumberField({ label, unit, value, set }: NumberFieldProps) {
  return (
    <>
      <Form.Control
        size="sm"
        inputMode="numeric"
        aria-label={label}
        disabled={value === null}
        value={value ?? ''}
        onChange={(e) => set(e.target.value)}
      />
      <span>{unit}</span>
    </>
  );
}

interface RailProps {
  id: string;
  on: boolean;
  set: (on: boolean) => void;
  label: string;
  /** What is to be said with it. */
  field?: ReactNode;
  /** What comes of it. */
  example: string | null;
}

function Rail({ id, on, set, label, field, example }: RailProps) {
  return (
    <div className="rail">
      <Form.Check id={id}>
        <Form.Check.Input checked={on} onChange={(e) => set(e.target.checked)} />
        <Form.Check.Label>{label}</Form.Check.Label>
      </Form.Check>
      {field}
      {on && example && <span className="quiet small">{example}</span>}
    </div>
  );
}

/** What is asked, once all of it is understood. */
function judged(
  typed: Typed,
  read: ReturnType<typeof useReadList>,
): { asked: GuardrailsAsked | null; fault: string | null } {
  const { longest, visits, domains: _, ...rest } = typed;
  const days = typedNumber(longest ?? '', LONGEST_DAYS_RANGE);
  const most = typedNumber(visits ?? '', VISIT_LIMIT_RANGE);
  const fault =
    (longest !== null && (days.fault ?? (days.value === null ? 'Say how many days.' : null))) ||
    (visits !== null && (most.fault ?? (most.value === null ? 'Say how many visits.' : null))) ||
    (typed.audiences.length === 0 && 'Shares must be for somebody.') ||
    (typed.levels.length === 0 && 'Visitors must be able to do something.') ||
    null;
  if (fault !== null || !read || read.faults.length > 0) return { asked: null, fault };
  const asked = { ...rest, longestDays: days.value, mostVisits: most.value, domains: read.listed.map(listedText) };
  return { asked, fault: null };
}
