import type { FolderPage, NodeItem } from '@quay/contract';
import { countOf, formatSize, includes, LEVEL_WORDS } from '@quay/core';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { Button, Dropdown } from 'react-bootstrap';
import { useDropzone } from 'react-dropzone';
import { Link, useNavigate, useParams } from 'react-router';
import { useSlip } from '../../slip/store';
import { useKeys } from '../../ui/keys';
import { useNotices } from '../../ui/notices';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { useTransfers } from '../../ui/transfers/store';
import { FolderTable } from './folder-table';
import { NameDialog } from './name-dialog';
import { folderQuery, marksQuery, useFolderVerbs } from './queries';
import { useSelection, type Selection } from './selection';

type Dialog = { kind: 'new-folder' } | { kind: 'rename'; item: NodeItem } | null;

/** One folder of a store. */
export function Folder() {
  const { folderId = '' } = useParams();
  // A folder of its own each time: selection and dialogs do not move along.
  return <FolderView key={folderId} folderId={folderId} />;
}

function FolderView({ folderId }: { folderId: string }) {
  const pages = useInfiniteQuery(folderQuery(folderId));
  const items = useMemo(() => pages.data?.pages.flatMap((p) => p.items) ?? [], [pages.data]);
  const folder = pages.data?.pages[0]?.folder;
  const order = useMemo(() => items.map((i) => i.id), [items]);
  const { data: marks = {} } = useQuery(marksQuery(folderId, order));
  const selection = useSelection(order);
  const chosen = items.filter((i) => selection.ids.has(i.id));
  const verbs = useFolderVerbs(folderId);
  const [dialog, setDialog] = useState<Dialog>(null);
  const scroller = useRef<HTMLElement | null>(null);
  const navigate = useNavigate();
  const slip = useSlip();
  const mayAdd = includes(folder?.level ?? null, 'contribute');
  const mayEdit = includes(folder?.level ?? null, 'edit');
  useEffect(() => {
    scroller.current = document.getElementById('place');
  }, []);
  const open = (item: NodeItem) => (item.kind === 'folder' ? void navigate(`/stores/${item.id}`) : download([item]));
  const nearEnd = useCallback(() => {
    if (pages.hasNextPage && !pages.isFetchingNextPage) void pages.fetchNextPage();
  }, [pages]);
  const ontoSlip = () => chosen.length > 0 && mayEdit && slip.put(chosen.map(({ id, name, kind, sizeBytes }) => ({ id, name, kind, sizeBytes })));
  const focused = items[selection.focus];
  useKeys({
    arrowdown: () => selection.move(selection.focus + 1, false),
    arrowup: () => selection.move(selection.focus - 1, false),
    'shift+arrowdown': () => selection.move(selection.focus + 1, true),
    'shift+arrowup': () => selection.move(selection.focus - 1, true),
    home: () => selection.move(0, false),
    end: () => selection.move(items.length - 1, false),
    'ctrl+a': selection.all,
    escape: selection.clear,
    enter: () => focused && open(focused),
    s: ontoSlip,
    n: () => mayAdd && setDialog({ kind: 'new-folder' }),
    f2: () => focused && mayEdit && setDialog({ kind: 'rename', item: focused }),
    delete: () => chosen.length > 0 && mayEdit && verbs.trash.mutate(chosen),
    'alt+arrowup': () => folder && folder.path.length > 1 && void navigate(`/stores/${folder.path.at(-2)?.id}`),
  });
  const drop = useAddFiles(folderId, mayAdd);
  if (pages.error) return <Failure error={pages.error} again={() => void pages.refetch()} />;
  if (!folder) return <SkeletonRows />;
  return (
    <div {...drop.getRootProps({ tabIndex: undefined, role: undefined })} className="h-100">
      <input {...drop.getInputProps({ 'aria-label': 'Add files' })} />
      {drop.isDragActive && <div className="drop-veil">Drop to add to {folder.name}</div>}
      <Title folder={folder} />
      <div className="path-line">
        <PathLine folder={folder} />
        {mayAdd && (
          <>
            <AddButton openFiles={drop.open} addFolder={(files) => drop.take(files)} />
            <Button variant="plain" onClick={() => setDialog({ kind: 'new-folder' })}>
              <i className="bi bi-folder-plus" aria-hidden /> New folder
            </Button>
          </>
        )}
        {mayEdit && (
          <Link className="btn btn-plain" to={`/stores/${folder.storeId}/trash`}>
            <i className="bi bi-trash3" aria-hidden /> Trash
          </Link>
        )}
      </div>
      <SelectionBar chosen={chosen} mayEdit={mayEdit} ontoSlip={ontoSlip} rename={(item) => setDialog({ kind: 'rename', item })} trash={() => verbs.trash.mutate(chosen)} selection={selection} />
      {items.length === 0 ? (
        <Empty action={mayAdd && <Button onClick={drop.open}>Add files</Button>}>{mayAdd ? 'This folder is empty. Drag files or whole folders in, or choose them.' : 'This folder is empty.'}</Empty>
      ) : (
        <FolderTable items={items} total={folder.itemCount} marks={marks} selection={selection} scroller={scroller} nearEnd={nearEnd} open={open} />
      )}
      {dialog?.kind === 'new-folder' && <NameDialog title="New folder" initial="" verb="Create" save={(name) => verbs.createFolder.mutateAsync(name)} close={() => setDialog(null)} />}
      {dialog?.kind === 'rename' && <NameDialog title={`Rename ${dialog.item.name}`} initial={dialog.item.name} verb="Rename" save={(name) => verbs.rename.mutateAsync({ item: dialog.item, name })} close={() => setDialog(null)} />}
    </div>
  );
}

type FolderHead = FolderPage['folder'];

function Title({ folder }: { folder: FolderHead }) {
  const name = folder.path.length === 1 && folder.storeKind === 'home' ? 'My files' : folder.name;
  return (
    <div className="title-line">
      <h1>
        {name}: {countOf(folder.itemCount, 'item')}, {formatSize(folder.totalBytes)}. <span className="quiet">You {LEVEL_WORDS[folder.level]}.</span>
      </h1>
    </div>
  );
}

function PathLine({ folder }: { folder: FolderHead }) {
  return (
    <nav className="path" aria-label="Path">
      <i className="bi bi-hdd-stack" aria-hidden />
      <Link to="/stores">Stores</Link>
      {folder.path.map((part, i) => (
        <span key={part.id} className="d-contents">
          <span className="quiet">/ </span>
          {i === folder.path.length - 1 ? <span aria-current="page">{part.name}</span> : <Link to={`/stores/${part.id}`}>{part.name}</Link>}
        </span>
      ))}
    </nav>
  );
}

/** Files from the desktop: dropped, chosen, or a whole folder. */
function useAddFiles(folderId: string, allowed: boolean) {
  const { add } = useTransfers();
  const take = (files: File[]) => {
    if (!allowed) useNotices.getState().show('You may not add files here.', { bad: true });
    else if (files.length > 0) add(folderId, files.map((file) => ({ file, below: foldersOf(file) })));
  };
  return { ...useDropzone({ onDrop: (accepted) => take(accepted), noClick: true, noKeyboard: true }), take };
}

/** The folders that a file came in, from the outermost; none for a single file. */
function foldersOf(file: File & { path?: string; relativePath?: string }): string[] {
  const path = file.webkitRelativePath || file.relativePath || file.path || file.name;
  return path.split('/').filter((part) => part !== '' && part !== '.').slice(0, -1);
}

function AddButton({ openFiles, addFolder }: { openFiles: () => void; addFolder: (files: File[]) => void }) {
  const chooser = useRef<HTMLInputElement>(null);
  return (
    <Dropdown>
      <Dropdown.Toggle variant="plain">
        <i className="bi bi-upload" aria-hidden /> Add
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item onClick={openFiles}>Files</Dropdown.Item>
        <Dropdown.Item onClick={() => chooser.current?.click()}>A whole folder</Dropdown.Item>
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
          addFolder([...(e.target.files ?? [])]);
          e.target.value = '';
        }}
      />
    </Dropdown>
  );
}

function SelectionBar({ chosen, mayEdit, ontoSlip, rename, trash, selection }: { chosen: NodeItem[]; mayEdit: boolean; ontoSlip: () => void; rename: (item: NodeItem) => void; trash: () => void; selection: Selection }) {
  const only = chosen.length === 1 ? chosen[0] : undefined;
  if (chosen.length === 0) return <div className="selection-bar idle">Select items to put them on the slip, download them or move them to the trash.</div>;
  return (
    <div className="selection-bar" role="toolbar" aria-label="Selected items">
      <strong>{chosen.length} selected</strong>
      <span className="quiet">{formatSize(chosen.reduce((sum, i) => sum + i.sizeBytes, 0))}</span>
      {mayEdit && (
        <Button onClick={ontoSlip}>
          Put on slip <kbd className="bg-transparent border border-light-subtle">S</kbd>
        </Button>
      )}
      <Button variant="plain" onClick={() => download(chosen)}>
        Download
      </Button>
      {mayEdit && only && (
        <Button variant="plain" onClick={() => rename(only)}>
          Rename
        </Button>
      )}
      {mayEdit && (
        <Button variant="plain" onClick={trash}>
          Trash
        </Button>
      )}
      <button type="button" className="btn btn-sm ms-auto" aria-label="Clear the selection" onClick={selection.clear}>
        <i className="bi bi-x-lg" aria-hidden />
      </button>
    </div>
  );
}

/** One file as it is; several, or a folder, as one archive. The browser shows the progress: the size is announced. */
function download(items: NodeItem[]): void {
  const [first] = items;
  if (!first) return;
  const link = document.createElement('a');
  link.href = items.length === 1 && first.kind === 'file' ? `/api/files/${first.id}/content` : `/api/archive?${items.map((i) => `ids=${i.id}`).join('&')}`;
  link.download = '';
  link.click();
}
