import type { FolderAccess, Reacher } from '@quay/contract';
import { countOf, LEVEL_WORDS, type ShareState } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { SkeletonRows } from '../../ui/states';
import { When } from '../../ui/words';
import { AccessDialog } from '../../ui/access/access-dialog';
import { InviteGuest } from '../../ui/access/invite-guest';
import { accessQuery } from '../../ui/access/queries';
import { useMe } from '../../ui/session';
import { sharesOfQuery } from '../../ui/queries';
import './who-reaches.scss';

/** Rows that are shown before somebody asks for all. */
const SHOWN_FIRST = 6;

interface WhoProps {
  folderId: string;
  /** What is looked at: the folder itself, or a file in it. */
  itemId?: string;
}

/** Who reaches a folder, and why; for whoever may say so, the way to change it. */
export function WhoReaches({ folderId, itemId = folderId }: WhoProps) {
  const { data: access, error } = useQuery(accessQuery(folderId));
  const [changing, setChanging] = useState<string | null>(null);
  const [all, setAll] = useState(false);
  const [inviting, setInviting] = useState(false);
  const me = useMe();
  if (error) return null;
  if (!access) return <SkeletonRows count={2} />;
  const shown = all ? access.people : access.people.slice(0, SHOWN_FIRST);
  const more = access.people.length - shown.length;
  return (
    <section className="who-reaches" aria-labelledby="who-reaches">
      <div className="section-line">
        <h3 id="who-reaches">Who reaches it</h3>
        {access.manages && !access.home && (
          <span className="d-flex gap-2">
            {me.duties.includes('invite-guests') && (
              <Button variant="plain" size="sm" onClick={() => setInviting(true)}>
                Invite a guest
              </Button>
            )}
            <Button variant="plain" size="sm" onClick={() => setChanging(folderId)}>
              Change
            </Button>
          </span>
        )}
      </div>
      <p className="quiet small mb-1">{standing(access, itemId !== folderId)}</p>
      <ul>
        {shown.map((p) => (
          <PersonRow key={p.personId} person={p} />
        ))}
      </ul>
      {more > 0 && (
        <Button variant="plain" size="sm" onClick={() => setAll(true)}>
          {countOf(more, 'more person', 'more people')}
        </Button>
      )}
      <Outsiders id={itemId} />
      {access.closed.map((folder) => (
        <p key={folder.id} className="quiet small mt-2 mb-0">
          {folder.name} in it takes nothing over from here and is closed to you.{' '}
          <Button variant="link" size="sm" className="p-0 align-baseline" onClick={() => setChanging(folder.id)}>
            Say who reaches it
          </Button>
        </p>
      ))}
      {inviting && <InviteGuest folder={access} close={() => setInviting(false)} />}
      {changing && <AccessDialog folderId={changing} close={() => setChanging(null)} />}
    </section>
  );
}

/** Links are a reason too: whoever holds one that is open reaches what it publishes. */
function Outsiders({ id }: { id: string }) {
  const { data: shares } = useQuery(sharesOfQuery(id));
  if (!shares) return null;
  const titled = (state: ShareState) => shares.filter((s) => s.state === state).map((s) => s.title);
  const [open, later] = [titled('open'), titled('scheduled')];
  return (
    <p className="small mt-2 mb-0">
      <strong>Outsiders:</strong>{' '}
      {open.length > 0
        ? `whoever has the link of ${open.slice(0, 2).join(' or ')}${open.length > 2 ? ` or of ${open.length - 2} more` : ''}`
        : 'nobody now'}
      {later.length > 0 && `; ${countOf(later.length, 'share')} of it ${later.length === 1 ? 'opens' : 'open'} later`}.
    </p>
  );
}

function PersonRow({ person }: { person: Reacher }) {
  return (
    <li>
      <span className="name">
        {person.name} {person.guest && <span className="quiet">guest</span>}
      </span>
      <span className="level">
        {person.level ? LEVEL_WORDS[person.level] : 'says who reaches it'}
        {person.until && (
          <span className="quiet">
            {' '}
            until <When at={person.until} brief />
          </span>
        )}
      </span>
      {person.why.map((why) => (
        <span key={why} className="why quiet">
          {why}
        </span>
      ))}
    </li>
  );
}

/** How the folder stands to what is above it. */
function standing(access: FolderAccess, ofFile: boolean): string {
  if (access.home) return 'A home: nobody but its owner.';
  const whose = ofFile ? `As ${access.name}, the folder it lies in. ` : '';
  if (access.top) return `${whose}Everybody who was granted something on the store.`;
  return access.inherits
    ? `${whose}What is granted above it counts here too.`
    : `${whose}It takes nothing over: what is granted above it does not count here.`;
}
