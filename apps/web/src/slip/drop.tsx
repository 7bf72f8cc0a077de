import type { DropPlace, Outgoing } from '@quay/contract';
import { dayInWords, formatSize, mendName } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { createContext, lazy, Suspense, useContext, useState, type ReactNode } from 'react';
import { api } from '../ui/api';
import { tellFailure } from '../ui/notices';
import { outgoingQuery } from '../ui/queries';
import { now, useZone } from '../ui/session';
import type { Collected } from '../collect';
import { useDropped } from '../ui/transfers/drop';
import { addFiles } from '../ui/transfers/store';
import { useSlip } from './store';
import './drop.scss';

const FolderChooser = lazy(async () => ({
  default: (await import('../places/stores/folder-chooser')).FolderChooser,
}));

const ChooseFiles = createContext<() => void>(() => undefined);

/** Takes what is dropped on the slip: it goes into a folder of its own, which is shared live. */
export function DropZone({ children }: { children: ReactNode }) {
  const zone = useZone();
  const drop = useDropped((files) => {
    if (files.length > 0) void take(files, zone).catch(tellFailure);
  });
  return (
    <div {...drop.getRootProps({ tabIndex: undefined, role: undefined })} className="drop-zone">
      <input {...drop.getInputProps({ 'aria-label': 'Put files on the slip' })} />
      {drop.isDragActive && <div className="drop-veil">Drop to put on the slip</div>}
      <ChooseFiles value={drop.open}>{children}</ChooseFiles>
    </div>
  );
}

/** The way to it without dropping, and where the files lie then. */
export function DropHint() {
  const { data: outgoing } = useQuery(outgoingQuery);
  const choose = useContext(ChooseFiles);
  const { place, items, set } = useSlip();
  const [isChoosing, setIsChoosing] = useState(false);
  if (!outgoing) return null;
  // What was dropped lies where it lies; the next files go there too.
  const isSettled = items.some((item) => item.dropped);
  return (
    <>
      <p className="small quiet mb-0 mt-1">
        {(outgoing.hasHome || place) && (
          <>
            <button type="button" className="link" onClick={choose}>
              Add files from this computer
            </button>
            , or drop them here.{' '}
            {place ? `They lie in a folder of their own in ${place.name}.` : outgoingWords(outgoing)}{' '}
          </>
        )}
        {!isSettled && (
          <button
            type="button"
            className="link"
            onClick={() => (place ? set({ place: null }) : setIsChoosing(true))}
            hidden={place !== null && !outgoing.hasHome}
          >
            {place ? 'In Outgoing instead' : 'Choose another place for files'}
          </button>
        )}
      </p>
      {isChoosing && (
        <Suspense>
          <FolderChooser
            title="Where files go that are dropped on the slip"
            verb="Put them here"
            startId={null}
            choose={(folder) => {
              set({ place: folder });
              setIsChoosing(false);
            }}
            close={() => setIsChoosing(false)}
          />
        </Suspense>
      )}
    </>
  );
}

const outgoingWords = ({ usedBytes, limitBytes, clearAfterDays }: Outgoing): string =>
  `They lie in your Outgoing (${formatSize(Math.max(0, limitBytes - usedBytes))} left) and go to its trash ${clearAfterDays} days after the last share of them has ended.`;

/** All that is dropped on one slip goes into one folder. */
async function take(files: Collected[], zone: string): Promise<void> {
  const { items, title, place, put } = useSlip.getState();
  const there = items.find((item) => item.dropped);
  if (there) return addFiles(there.id, files, { aside: true });
  const name = mendName(title.trim() === '' ? `Files of ${dayInWords(now(), now(), zone)}` : title.trim());
  const { id, name: called } = await api<DropPlace>('POST', '/api/outgoing', { name, folderId: place?.id });
  put([{ id, name: called, kind: 'folder', sizeBytes: 0, folderId: id, dropped: true }]);
  await addFiles(id, files, { aside: true });
}
