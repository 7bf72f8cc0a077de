import { countOf, LEVEL_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { accessQuery } from './queries';

/** Folders that are told of; of the others it says how many. */
const FOLDERS_SHOWN = 5;
/** Names that a line bears. */
const NAMES_SHOWN = 8;

/** Who reaches folders inside the office, for whoever is about to send something out of them. Asked when it is opened. */
export function ReachedInside({ folderIds }: { folderIds: readonly string[] }) {
  const [open, setOpen] = useState(false);
  const distinct = [...new Set(folderIds)];
  if (distinct.length === 0) return null;
  const more = distinct.length - FOLDERS_SHOWN;
  return (
    <details className="small mt-1" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="quiet">Who reaches this inside</summary>
      {open && distinct.slice(0, FOLDERS_SHOWN).map((id) => <ReachedFolder key={id} folderId={id} />)}
      {more > 0 && <p className="quiet mb-0">And {countOf(more, 'more folder')}.</p>}
    </details>
  );
}

function ReachedFolder({ folderId }: { folderId: string }) {
  const { data, error } = useQuery(accessQuery(folderId));
  if (error) return <p className="mb-0">Who reaches one of these folders is not yours to see.</p>;
  if (!data) return <p className="quiet mb-0">Looking</p>;
  const more = data.people.length - NAMES_SHOWN;
  const words = (level: (typeof data.people)[number]['level']) =>
    level ? LEVEL_WORDS[level] : 'only says who reaches it';
  const names = data.people.slice(0, NAMES_SHOWN).map((p) => `${p.name} (${words(p.level)})`);
  return (
    <p className="mb-0">
      <strong>{data.name}</strong>: {names.join(', ') || 'nobody'}
      {more > 0 && `, and ${more} more`}
    </p>
  );
}
