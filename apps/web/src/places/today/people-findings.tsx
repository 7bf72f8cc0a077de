import type { FolderAccess, KeptGrant, People, PersonRow } from '@quay/contract';
import { extendedBy, peopleFindings, type PeopleFinding } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Button } from 'react-bootstrap';
import { Link } from 'react-router';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure, useNotices } from '../../ui/notices';
import { peopleQuery } from '../../ui/queries';
import { useMe, useNow, useZone } from '../../ui/session';
import { When } from '../../ui/words';

/** What of people needs a hand, for those who look after them; none for others. */
export function usePeopleFindings(): { people: People; found: PeopleFinding[] } | null {
  const me = useMe();
  const now = useNow();
  const { data } = useQuery({ ...peopleQuery, enabled: me.duties.includes('run-people') });
  if (!data) return null;
  const time = (text: string | null) => (text === null ? null : Date.parse(text));
  const facts = data.people.map((p) => ({
    ...p,
    sponsorId: p.sponsor?.id ?? null,
    endsAt: time(p.endsAt),
    lastSeenAt: time(p.lastSeenAt),
  }));
  const kept = data.kept.map((k) => ({ personId: k.person.id, grantId: k.grantId }));
  return { people: data, found: peopleFindings(facts, kept, now) };
}

interface PeopleFindingsProps {
  of: { people: People; found: PeopleFinding[] } | null;
  /** Which of them: what harms stands before what only ends. */
  kinds: PeopleFinding['kind'][];
}

export function PeopleFindings({ of, kinds }: PeopleFindingsProps) {
  return of?.found
    .filter(({ kind }) => kinds.includes(kind))
    .map((finding) => (
      <FindingRow
        key={`${finding.kind} ${'grantId' in finding ? finding.grantId : finding.personId}`}
        people={of.people}
        finding={finding}
      />
    ));
}

function FindingRow({ people, finding }: { people: People; finding: PeopleFinding }) {
  const person = people.people.find((p) => p.id === finding.personId);
  if (!person) return null;
  if (finding.kind === 'kept') {
    const kept = people.kept.find((k) => k.grantId === finding.grantId);
    return kept ? <KeptRow kept={kept} /> : null;
  }
  const sheet = `/people/guests/${person.id}`;
  if (finding.kind === 'guest-alone')
    return (
      <Row
        to={sheet}
        title={`Nobody answers for the guest ${person.name}`}
        detail="Whoever did has no account any more."
      >
        <Link className="btn btn-plain btn-sm" to={sheet}>
          Choose somebody
        </Link>
      </Row>
    );
  return <EndingRow person={person} at={finding.at} quiet={finding.why === 'quiet'} to={sheet} />;
}

function KeptRow({ kept }: { kept: KeptGrant }) {
  const end = useEndKept();
  const cell = `/people?cell=${kept.person.id}+${kept.folder.id}`;
  return (
    <Row
      harm
      to={cell}
      title={`${kept.person.name} left ${kept.group.name} and still reaches ${kept.folder.name}`}
      detail="It was granted to them alone, beside the group."
    >
      {kept.canEnd ? (
        <Button variant="plain" size="sm" onClick={() => void end(kept)}>
          End it
        </Button>
      ) : (
        <Link className="btn btn-plain btn-sm" to={cell}>
          See why
        </Link>
      )}
    </Row>
  );
}

function EndingRow({ person, at, quiet, to }: { person: PersonRow; at: number; quiet: boolean; to: string }) {
  const prolong = useProlong();
  return (
    <Row
      to={to}
      title={`The account of ${person.name} ends this week`}
      detail={
        <>
          <When at={new Date(at).toISOString()} />
          {quiet && `, after ${person.quietDays} days without a visit`}
        </>
      }
    >
      {quiet ? (
        <Link className="btn btn-plain btn-sm" to={to}>
          See the guest
        </Link>
      ) : (
        <Button variant="plain" size="sm" onClick={() => void prolong(person)}>
          30 days more
        </Button>
      )}
    </Row>
  );
}

interface RowProps {
  to: string;
  title: string;
  detail: ReactNode;
  harm?: boolean;
  children: ReactNode;
}

function Row({ to, title, detail, harm, children }: RowProps) {
  return (
    <div className="finding">
      <span className={harm ? 'flag harm' : 'flag'} />
      <div>
        <Link className="fw-semibold link-body-emphasis text-decoration-none" to={to}>
          {title}
        </Link>
        <div className="quiet small">{detail}</div>
      </div>
      {children}
    </div>
  );
}

/** Ends what somebody kept, and offers the way back. */
function useEndKept(): (kept: KeptGrant) => Promise<void> {
  const changed = useChanged();
  const { show } = useNotices();
  return async ({ grantId, person, folder, level, until }) => {
    const again = { subject: { kind: 'person', id: person.id }, level, until };
    const back = () => api<FolderAccess>('POST', `/api/folders/${folder.id}/grants`, again);
    await api<FolderAccess>('DELETE', `/api/grants/${grantId}`).then(() => {
      changed('access');
      show(`${person.name} no longer reaches ${folder.name} by what they kept.`, {
        undo: () => void back().then(() => changed('access'), tellFailure),
      });
    }, tellFailure);
  };
}

/** Gives a guest a later end, and offers the way back. */
function useProlong(): (guest: PersonRow) => Promise<void> {
  const changed = useChanged();
  const zone = useZone();
  const { show } = useNotices();
  return async ({ id, name, endsAt }) => {
    const send = (end: string | null) => api('PATCH', `/api/people/${id}`, { endsAt: end });
    const later = new Date(extendedBy(Date.parse(endsAt ?? ''), 30, zone)).toISOString();
    await send(later).then(() => {
      changed('people');
      show(`The account of ${name} ends 30 days later.`, {
        undo: () => void send(endsAt).then(() => changed('people'), tellFailure),
      });
    }, tellFailure);
  };
}
