import type { FolderHead } from '@quay/contract';
import { countOf, formatSize, LEVEL_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { When } from '../../ui/words';
import { useRef } from 'react';
import { Button, Dropdown } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { useMe } from '../../ui/session';
import { totalsQuery } from '../../ui/sizes';
import { collect, type Collected } from '../../collect';
import { useLooks } from './store';

/** The switch for a second folder at the side of the first. */
export interface Beside {
  open: boolean;
  toggle: () => void;
}

/** What the folder is, how much is in it, and what somebody may do there. */
export function Title({ folder }: { folder: FolderHead }) {
  const size = useQuery(totalsQuery([folder.id])).data?.[0];
  const name = folder.path.length === 1 && folder.storeKind === 'home' ? 'My files' : folder.name;
  return (
    <div className="title-line">
      <h1>
        {name}: {countOf(folder.itemCount, 'item')}
        {size ? `, ${formatSize(size.sizeBytes)}` : ''}.{' '}
        <span className="quiet">
          {folder.archivedAt ? <Archived at={folder.archivedAt} /> : `You ${LEVEL_WORDS[folder.level]}.`}
        </span>
      </h1>
    </div>
  );
}

function Archived({ at }: { at: string }) {
  return (
    <>
      Archived <When at={at} brief />: nothing is added or changed.
    </>
  );
}

const VIEWS = [
  ['list', 'As a table', 'bi-list-ul'],
  ['tiles', 'As tiles', 'bi-grid-3x3-gap'],
] as const;

/** How the folder is shown, and where else one can go from it. */
export function FolderTools({ folder, beside, past }: { folder: FolderHead; beside?: Beside; past: () => void }) {
  const looks = useLooks();
  const navigate = useNavigate();
  const me = useMe();
  return (
    <>
      <div className="btn-group" role="group" aria-label="How to show the items">
        {VIEWS.map(([view, words, icon]) => (
          <Button
            key={view}
            variant="choice"
            aria-pressed={looks.view === view}
            aria-label={words}
            title={words}
            onClick={() => looks.change({ view })}
          >
            <i className={`bi ${icon}`} aria-hidden />
          </Button>
        ))}
      </div>
      {beside && (
        <Button
          variant="plain"
          aria-pressed={beside.open}
          aria-label="Two folders side by side"
          title="Two folders side by side"
          onClick={beside.toggle}
        >
          <i className="bi bi-layout-split" aria-hidden />
        </Button>
      )}
      <Button
        variant="plain"
        aria-pressed={looks.details}
        aria-label="Details"
        title="Details (i)"
        onClick={() => looks.change({ details: !looks.details })}
      >
        <i className="bi bi-info-circle" aria-hidden />
      </Button>
      <Dropdown align="end">
        <Dropdown.Toggle variant="plain" aria-label="More" className="no-caret">
          <i className="bi bi-three-dots" aria-hidden />
        </Dropdown.Toggle>
        <Dropdown.Menu>
          {folder.acts.includes('publish') && me.duties.includes('ask-outside') && (
            <Dropdown.Item onClick={() => void navigate(`/intakes/new?folder=${folder.id}`)}>
              Ask for files
            </Dropdown.Item>
          )}
          <Dropdown.Item onClick={past}>As it was ...</Dropdown.Item>
          <Dropdown.Item onClick={() => void navigate(`/stores/${folder.storeId}/trash`)}>Trash</Dropdown.Item>
          <Dropdown.Item onClick={() => void navigate(`/stores/${folder.storeId}/storage`)}>
            Storage and rules
          </Dropdown.Item>
          <Dropdown.Divider />
          <Dropdown.Item onClick={() => looks.change({ litter: !looks.litter })}>
            {looks.litter ? 'Hide' : 'Show'} what desktop systems left behind
          </Dropdown.Item>
        </Dropdown.Menu>
      </Dropdown>
    </>
  );
}

/** Files, a whole folder, or a new one. */
export function AddButton({
  openFiles,
  addFolder,
  newFolder,
}: {
  openFiles: () => void;
  addFolder: (files: Collected[]) => void;
  newFolder: () => void;
}) {
  const chooser = useRef<HTMLInputElement>(null);
  return (
    <Dropdown>
      <Dropdown.Toggle variant="plain">
        <i className="bi bi-upload" aria-hidden /> Add
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item onClick={openFiles}>Files</Dropdown.Item>
        <Dropdown.Item onClick={() => chooser.current?.click()}>A whole folder</Dropdown.Item>
        <Dropdown.Divider />
        <Dropdown.Item onClick={newFolder}>
          New folder <kbd>n</kbd>
        </Dropdown.Item>
      </Dropdown.Menu>
      <input
        ref={(element) => {
          chooser.current = element;
          element?.setAttribute('webkitdirectory', '');
        }}
        id="add-folder"
        type="file"
        multiple
        hidden
        aria-label="Add a whole folder"
        onChange={(e) => {
          const input = e.target;
          void collect(e.nativeEvent).then((files) => {
            addFolder(files);
            input.value = '';
          });
        }}
      />
    </Dropdown>
  );
}
