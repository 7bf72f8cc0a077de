import type { KnownRecipient } from '@quay/contract';
import { AUDIENCES, countOf, momentInWords, type AudienceKind } from '@quay/core';
import type { ReadList } from '@quay/core/recipients';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Form } from 'react-bootstrap';
import { grantableQuery } from '../access/queries';
import { knownRecipientsQuery } from '../queries';
import { useNow, useZone } from '../session';
import type { ChosenAudience, JudgedAudience } from './chosen';
import './audience-field.scss';

const NAMES: Record<AudienceKind, string> = {
  anyone: 'Anyone',
  verified: 'Proven',
  listed: 'Listed',
  members: 'Members',
};
const MEANS: Record<AudienceKind, string> = {
  anyone: 'Whoever holds the link.',
  verified: 'Whoever proves a mail address, or a telephone number, by a code that is sent there.',
  listed: 'Only addresses, domains and telephone numbers of this list, proven by a code that is sent there.',
  members: 'People and groups of the office, and guests, who sign in.',
};
/** Faults of a list that are shown; of the others it says how many. */
const FAULTS_SHOWN = 5;

interface AudienceFieldProps {
  chosen: ChosenAudience;
  set: (part: Partial<ChosenAudience>) => void;
  judged: JudgedAudience;
}

/** Whom a share is for. */
export function AudienceField({ chosen, set, judged }: AudienceFieldProps) {
  return (
    <div className="audience-field">
      <div className="choices" role="group" aria-label="Who it is for">
        {AUDIENCES.map((kind) => (
          <button
            key={kind}
            type="button"
            className="btn btn-choice"
            aria-pressed={chosen.audience === kind}
            onClick={() => set({ audience: kind })}
          >
            {NAMES[kind]}
          </button>
        ))}
      </div>
      <p className="quiet small mb-0 mt-1">{MEANS[chosen.audience]}</p>
      {chosen.audience === 'listed' && (
        <>
          <KnownField text={chosen.listText} type={(listText) => set({ listText })} />
          <ListField
            label="Recipients"
            placeholder="Paste addresses, domains, *.domain or +44 …"
            text={chosen.listText}
            type={(listText) => set({ listText })}
            read={judged.lists?.listed}
          />
        </>
      )}
      {(chosen.audience === 'listed' || chosen.audience === 'verified') && (
        <details open={chosen.blockText !== ''}>
          <summary className="small">Never let in</summary>
          <ListField
            label="Never let in"
            placeholder="Addresses or domains, whatever the list says"
            text={chosen.blockText}
            type={(blockText) => set({ blockText })}
            read={judged.lists?.blocked}
          />
        </details>
      )}
      {chosen.audience === 'members' && <Members chosen={chosen} set={set} />}
    </div>
  );
}

/** Adds somebody to a list by a few letters of their name or address. */
function KnownField({ text, type }: { text: string; type: (text: string) => void }) {
  const { data } = useQuery(knownRecipientsQuery);
  const [typed, setTyped] = useState('');
  const zone = useZone();
  const now = useNow();
  const listed = new Set(text.toLowerCase().split(/[\s,;]+/));
  const known = (data ?? []).filter((each) => !listed.has(each.entry));
  const add = (entry: string) => {
    type(text.trim() === '' ? entry : `${text.trimEnd()}\n${entry}`);
    setTyped('');
  };
  if (known.length === 0 && typed === '') return null;
  const said = ({ name, lastAt }: KnownRecipient) =>
    [name, lastAt && `last ${momentInWords(Date.parse(lastAt), now, zone)}`].filter(Boolean).join(', ');
  return (
    <>
      <Form.Control
        size="sm"
        className="mt-1"
        list="known-recipients"
        aria-label="Add somebody"
        placeholder="Add somebody you have shared with, or of the office"
        value={typed}
        onChange={(e) => {
          // What is picked from the list comes whole.
          if (known.some((each) => each.entry === e.target.value)) add(e.target.value);
          else setTyped(e.target.value);
        }}
        onKeyDown={(e) => {
          if (e.key !== 'Enter') return;
          // Enter publishes nothing here.
          e.preventDefault();
          if (typed.trim() !== '') add(typed.trim());
        }}
      />
      <datalist id="known-recipients">
        {known.map((each) => (
          <option key={each.entry} value={each.entry} label={said(each)} />
        ))}
      </datalist>
    </>
  );
}

interface ListFieldProps {
  label: string;
  placeholder: string;
  text: string;
  type: (text: string) => void;
  read: ReadList | undefined;
}

/** Entries of a list as they are pasted, with what was understood of them. */
export function ListField({ label, placeholder, text, type, read }: ListFieldProps) {
  const more = (read?.faults.length ?? 0) - FAULTS_SHOWN;
  return (
    <>
      <Form.Control
        as="textarea"
        rows={3}
        className="mono mt-1"
        aria-label={label}
        placeholder={placeholder}
        spellCheck={false}
        value={text}
        isInvalid={Boolean(read?.faults.length)}
        onChange={(e) => type(e.target.value)}
      />
      {read && text.trim() !== '' && (
        <div className="small" role="status">
          <span className="quiet">
            {countOf(read.listed.length, 'entry', 'entries')}
            {read.twice > 0 && `, ${read.twice} came twice`}
          </span>
          {read.faults.slice(0, FAULTS_SHOWN).map((fault) => (
            <span key={fault.text} className="field-fault d-block">
              {fault.text} {fault.words}.
            </span>
          ))}
          {more > 0 && <span className="field-fault d-block">And {more} more.</span>}
        </div>
      )}
    </>
  );
}

function Members({ chosen, set }: Pick<AudienceFieldProps, 'chosen' | 'set'>) {
  const { data } = useQuery(grantableQuery);
  const choices = [
    ...(data?.groups ?? []).map((g) => ({
      kind: 'group' as const,
      id: g.id,
      name: g.name,
      words: `${g.name} (group)`,
    })),
    ...(data?.people ?? []).map((p) => ({
      ...{ kind: 'person' as const, id: p.id, name: p.name },
      words: p.guest ? `${p.name}, guest` : p.name,
    })),
  ].filter((choice) => !chosen.members.some((m) => m.id === choice.id));
  const add = (id: string) => {
    const found = choices.find((choice) => choice.id === id);
    if (found) set({ members: [...chosen.members, { kind: found.kind, id, name: found.name }] });
  };
  return (
    <>
      <ul className="audience-members">
        {chosen.members.map((member) => (
          <li key={member.id}>
            {member.name}
            {member.kind === 'group' && <span className="quiet"> group</span>}
            <button
              type="button"
              aria-label={`Take ${member.name} off`}
              onClick={() => set({ members: chosen.members.filter((m) => m.id !== member.id) })}
            >
              <i className="bi bi-x-lg" aria-hidden />
            </button>
          </li>
        ))}
      </ul>
      <Form.Select size="sm" aria-label="Add a person or group" value="" onChange={(e) => add(e.target.value)}>
        <option value="">Add a person or group</option>
        {choices.map((choice) => (
          <option key={choice.id} value={choice.id}>
            {choice.words}
          </option>
        ))}
      </Form.Select>
    </>
  );
}
