import type { FolderHead, NodeItem, ShareMarks, SortKey } from '@quay/contract';
import { countOf, formatSize, LEVEL_WORDS, type Act } from '@quay/core';
import { useInfiniteQuery, useQueries, useQuery } from '@tanstack/react-query';
import { useCallback, useLayoutEffect, useMemo, useRef, useState, type MouseEvent, type RefObject } from 'react';
import { Button, Dropdown } from 'react-bootstrap';
import { useDropzone } from 'react-dropzone';
import { useNavigate } from 'react-router';
import { useSlip } from '../../slip/store';
import { useKeys } from '../../ui/keys';
import { useNotices } from '../../ui/notices';
import { totalOf, totalsQuery, useSizes } from '../../ui/sizes';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { collect, type Collected } from '../../ui/transfers/collect';
import { useTransfers } from '../../ui/transfers/store';
import { beginDrag, downloadPath, useDropTarget, type Dragged } from './drag';
import { FolderChooser } from './folder-chooser';
import { FolderTable } from './folder-table';
import { FolderTiles } from './folder-tiles';
import { ContextMenu, type MenuEntry } from './menu';
import { mayIn, type May } from './may';
import { MoveDialog, type MoveQuestion } from './move-dialog';
import { NameDialog } from './name-dialog';
import { PathLine } from './path-line';
import { folderQuery, marksQuery, moveAsks, tagsQuery, useVerbs, type MoveAsked, type MoveHow } from './queries';
import { useSelection, type Selection } from './selection';
import { useHand, useLooks } from './store';
import { TagDialog } from './tags';

type Dialog =
  | { kind: 'new-folder' }
  | { kind: 'rename'; item: NodeItem }
  | { kind: 'tags'; items: NodeItem[] }
  | { kind: 'choose'; items: NodeItem[]; how: 'move' | 'copy' }
  | null;

export interface PaneProps {
  folderId: string;
  /** Keys act on the active pane only. */
  active: boolean;
  activate: () => void;
  /** Where links of this pane lead. */
  go: (folderId: string) => void;
  /** Told which item details are shown of. */
  onFocus: (item: NodeItem | null) => void;
  view: (item: NodeItem, items: NodeItem[]) => void;
  /** The first of two panes has the switch for the second. */
  beside?: { open: boolean; toggle: () => void };
}

/** One folder of a store: its title, path, tools, and items as a table or tiles. */
export function Pane({ folderId, active, activate, go, onFocus, view, beside }: PaneProps) {
  const looks = useLooks();
  const pages = useInfiniteQuery(folderQuery(folderId, looks));
  const items = useMemo(() => pages.data?.pages.flatMap((p) => p.items) ?? [], [pages.data]);
  const folder = pages.data?.pages[0]?.folder ?? undefined;
  const order = useMemo(() => items.map((i) => i.id), [items]);
  const marks = useMarks(folderId, pages.data?.pages.map((p) => p.items) ?? []);
  const { data: tags = [] } = useQuery(tagsQuery);
  const selection = useSelection(order);
  const chosen = useMemo(() => items.filter((i) => selection.ids.has(i.id)), [items, selection.ids]);
  const verbs = useVerbs();
  const hand = useHand();
  const [dialog, setDialog] = useState<Dialog>(null);
  const [moving, setMoving] = useState<MoveQuestion | null>(null);
  const [menu, setMenu] = useState<{ x: number; y: number } | null>(null);
  const [columns, setColumns] = useState(5);
  // In the state, because the rows below can only be laid out when what they scroll in is there.
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  const navigate = useNavigate();
  const slip = useSlip();
  const may = useMemo(() => mayIn(folder), [folder]);
  const mayAdd = may('add');
  const focused = items[selection.focus];
  const open = (item: NodeItem) => (item.kind === 'folder' ? go(item.id) : view(item, items));
  const nearEnd = useCallback(() => {
    if (pages.hasNextPage && !pages.isFetchingNextPage) void pages.fetchNextPage();
  }, [pages]);
  const ontoSlip = () =>
    chosen.length > 0 &&
    may('publish', chosen) &&
    slip.put(chosen.map(({ id, name, kind, sizeBytes }) => ({ id, name, kind, sizeBytes })));
  const moveAs = (asked: MoveAsked, how: MoveHow) =>
    verbs.move
      .mutateAsync({ ...asked, ...how })
      .catch((problem: unknown) => moveAsks(problem) && setMoving({ asked, how, problem }));
  const put = async (asked: MoveAsked, how: 'move' | 'copy') => {
    if (how === 'copy') verbs.copy.mutate(asked);
    else await moveAs(asked, { ifTaken: 'refuse', widens: false });
  };
  const putDown = (dragged: Dragged, how: 'move' | 'copy', target: { id: string; name: string }) => {
    const moved = dragged.items.filter((i) => i.id !== target.id);
    if (moved.length > 0 && !(how === 'move' && dragged.fromFolderId === target.id))
      void put({ items: moved, toFolderId: target.id, toName: target.name }, how);
  };
  const paste = () =>
    folder &&
    mayAdd &&
    hand.items.length > 0 &&
    (void put({ items: hand.items, toFolderId: folder.id, toName: folder.name }, hand.how),
    hand.how === 'move' && hand.take([], 'copy'));
  const take = (how: 'move' | 'copy') => {
    if (chosen.length === 0 || !may(how === 'move' ? 'remove' : 'read', chosen) || window.getSelection()?.toString())
      return;
    hand.take(
      chosen.map(({ id, name }) => ({ id, name })),
      how,
    );
    useNotices
      .getState()
      .show(
        `${chosen.length === 1 ? chosen[0]?.name : countOf(chosen.length, 'item')} ${how === 'move' ? 'cut' : 'copied'}. Ctrl V puts ${chosen.length === 1 ? 'it' : 'them'} into the folder you go to.`,
      );
  };
  useLayoutEffect(() => {
    onFocus(chosen.length === 1 ? (chosen[0] ?? null) : (focused ?? null));
  }, [chosen, focused, onFocus]);
  const across = looks.view === 'tiles' ? columns : 1;
  useKeys(
    active
      ? {
          arrowdown: () => selection.move(selection.focus < 0 ? 0 : selection.focus + across, false),
          arrowup: () => selection.move(selection.focus - across, false),
          ...(across > 1 && {
            arrowright: () => selection.move(selection.focus + 1, false),
            arrowleft: () => selection.move(selection.focus - 1, false),
          }),
          'shift+arrowdown': () => selection.move(selection.focus + across, true),
          'shift+arrowup': () => selection.move(selection.focus - across, true),
          home: () => selection.move(0, false),
          end: () => selection.move(items.length - 1, false),
          pagedown: () => selection.move(selection.focus + 15 * across, false),
          pageup: () => selection.move(selection.focus - 15 * across, false),
          'ctrl+a': selection.all,
          escape: selection.clear,
          enter: () => focused && open(focused),
          '/': () => void navigate(`/stores/find?storeId=${folder?.storeId ?? ''}`),
          space: () => focused && focused.kind === 'file' && view(focused, items),
          s: ontoSlip,
          i: () => looks.change({ details: !looks.details }),
          n: () => mayAdd && setDialog({ kind: 'new-folder' }),
          t: () => chosen.length > 0 && may('change', chosen) && setDialog({ kind: 'tags', items: chosen }),
          m: () =>
            chosen.length > 0 && may('remove', chosen) && setDialog({ kind: 'choose', items: chosen, how: 'move' }),
          f2: () => focused && may('change', [focused]) && setDialog({ kind: 'rename', item: focused }),
          delete: () => chosen.length > 0 && may('remove', chosen) && verbs.trash.mutate(chosen),
          'ctrl+x': () => take('move'),
          'ctrl+c': () => take('copy'),
          'ctrl+v': paste,
          'alt+arrowup': () => folder && folder.path.length > 1 && go(folder.path.at(-2)?.id as string),
        }
      : {},
  );
  const drop = useAddFiles(folderId, mayAdd);
  const here = useDropTarget(
    (dragged, copy) => folder && putDown(dragged, copy ? 'copy' : 'move', { id: folder.id, name: folder.name }),
  );
  const { rootRef } = drop;
  const root = useCallback(
    (element: HTMLDivElement | null) => {
      (rootRef as RefObject<HTMLElement | null>).current = element;
      setScroller(element);
    },
    [rootRef],
  );
  const above = useAbove(scroller, Boolean(folder), chosen.length > 0, looks.view);
  if (pages.error) return <Failure error={pages.error} again={() => void pages.refetch()} />;
  if (!folder) return <SkeletonRows />;
  const openMenu = (event: MouseEvent, index: number) => {
    event.preventDefault();
    activate();
    if (!selection.ids.has(order[index] ?? '')) selection.click(index, { ctrl: false, shift: false });
    setMenu({ x: event.clientX, y: event.clientY });
  };
  const list = {
    items,
    total: folder.itemCount,
    marks,
    tags,
    selection,
    scroller,
    above,
    nearEnd,
    open,
    mayAdd,
    menu: openMenu,
    drag: (event: React.DragEvent, index: number) => {
      const item = items[index] as NodeItem;
      beginDrag(event, selection.ids.has(item.id) ? chosen : [item], folderId);
    },
    drop: (dragged: Dragged, copy: boolean, onto: NodeItem) => putDown(dragged, copy ? 'copy' : 'move', onto),
  };
  const sort = (key: SortKey) =>
    looks.change({ sort: key, descending: looks.sort === key ? !looks.descending : key === 'changed' });
  return (
    <div
      {...drop.getRootProps({ tabIndex: undefined, role: undefined })}
      ref={root}
      className={`pane${active ? ' active' : ''}`}
      onMouseDown={activate}
      onFocus={activate}
    >
      <input {...drop.getInputProps({ 'aria-label': 'Add files' })} />
      {drop.isDragActive && <div className="drop-veil">Drop to add to {folder.name}</div>}
      <Title folder={folder} />
      <div className="path-line">
        <PathLine
          folder={folder}
          label={beside ? 'Path' : 'Path of the second folder'}
          go={go}
          drop={(dragged, copy, part) => putDown(dragged, copy ? 'copy' : 'move', part)}
        />
        {mayAdd && (
          <AddButton
            openFiles={drop.open}
            addFolder={(files) => drop.take(files)}
            newFolder={() => setDialog({ kind: 'new-folder' })}
          />
        )}
        <FolderTools folder={folder} beside={beside} past={() => void navigate(`/stores/${folderId}/past`)} />
      </div>
      <SelectionBar
        chosen={chosen}
        may={may}
        hand={mayAdd ? hand : null}
        paste={paste}
        ontoSlip={ontoSlip}
        verbs={{
          rename: (item) => setDialog({ kind: 'rename', item }),
          tags: (chosenItems) => setDialog({ kind: 'tags', items: chosenItems }),
          move: (chosenItems) => setDialog({ kind: 'choose', items: chosenItems, how: 'move' }),
          trash: () => verbs.trash.mutate(chosen),
        }}
        selection={selection}
      />
      <div {...here.props} className={`pane-list${here.over ? ' drop' : ''}`}>
        {items.length === 0 ? (
          <Empty action={mayAdd && <Button onClick={drop.open}>Add files</Button>}>
            {mayAdd ? 'This folder is empty. Drag files or whole folders in, or choose them.' : 'This folder is empty.'}
          </Empty>
        ) : looks.view === 'tiles' ? (
          <FolderTiles {...list} columns={columns} setColumns={setColumns} />
        ) : (
          <FolderTable {...list} order={looks} sort={sort} />
        )}
        {folder.litterCount > 0 && !looks.litter && (
          <p className="quiet small mt-2 mb-0">
            {countOf(folder.litterCount, 'file')} left behind by desktop systems{' '}
            {folder.litterCount === 1 ? 'is' : 'are'} hidden, and never published.
          </p>
        )}
      </div>
      {menu && chosen.length > 0 && (
        <ContextMenu
          at={menu}
          close={() => setMenu(null)}
          entries={entriesFor(chosen, {
            may: (act) => may(act, chosen),
            open,
            ontoSlip,
            take,
            setDialog,
            pin: (on) => verbs.pin.mutate({ items: chosen, on }),
            details: () => looks.change({ details: true }),
            trash: () => verbs.trash.mutate(chosen),
          })}
        />
      )}
      {dialog?.kind === 'new-folder' && (
        <NameDialog
          title="New folder"
          initial=""
          verb="Create"
          save={(name) => verbs.createFolder.mutateAsync({ folderId, name })}
          close={() => setDialog(null)}
        />
      )}
      {dialog?.kind === 'rename' && (
        <NameDialog
          title={`Rename ${dialog.item.name}`}
          initial={dialog.item.name}
          verb="Rename"
          save={(name) => verbs.rename.mutateAsync({ item: dialog.item, name })}
          close={() => setDialog(null)}
        />
      )}
      {dialog?.kind === 'tags' && <TagDialog items={dialog.items} close={() => setDialog(null)} />}
      {dialog?.kind === 'choose' && (
        <FolderChooser
          title={`${dialog.how === 'move' ? 'Move' : 'Copy'} ${dialog.items.length === 1 ? dialog.items[0]?.name : countOf(dialog.items.length, 'item')}`}
          verb={dialog.how === 'move' ? 'Move to' : 'Copy to'}
          startId={folderId}
          choose={(to) => void put({ items: dialog.items, toFolderId: to.id, toName: to.name }, dialog.how)}
          close={() => setDialog(null)}
        />
      )}
      {moving && (
        <MoveDialog question={moving} go={(how) => void moveAs(moving.asked, how)} close={() => setMoving(null)} />
      )}
    </div>
  );
}

/** Marks page by page: a page that is there is not asked for again when the next one comes. */
function useMarks(folderId: string, pages: NodeItem[][]): ShareMarks {
  const found = useQueries({ queries: pages.map((items) => marksQuery(folderId, items)) });
  return useMemo(() => Object.assign({}, ...found.map((f) => f.data ?? {})) as ShareMarks, [found]);
}

/** Pixels between the top of what scrolls and the list, measured, because titles wrap. */
function useAbove(pane: HTMLDivElement | null, ...after: unknown[]): number {
  const [above, setAbove] = useState(160);
  useLayoutEffect(() => {
    const list = pane?.querySelector<HTMLElement>('.pane-list');
    if (pane && list)
      setAbove(list.getBoundingClientRect().top - pane.getBoundingClientRect().top + pane.scrollTop + 34);
    // Measured again when what stands above may have changed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [pane, ...after]);
  return above;
}

function Title({ folder }: { folder: FolderHead }) {
  const size = useQuery(totalsQuery([folder.id])).data?.[0];
  const name = folder.path.length === 1 && folder.storeKind === 'home' ? 'My files' : folder.name;
  return (
    <div className="title-line">
      <h1>
        {name}: {countOf(folder.itemCount, 'item')}
        {size ? `, ${formatSize(size.sizeBytes)}` : ''}. <span className="quiet">You {LEVEL_WORDS[folder.level]}.</span>
      </h1>
    </div>
  );
}

function FolderTools({ folder, beside, past }: { folder: FolderHead; beside?: PaneProps['beside']; past: () => void }) {
  const looks = useLooks();
  const navigate = useNavigate();
  return (
    <>
      <div className="btn-group" role="group" aria-label="How to show the items">
        <Button
          variant="choice"
          aria-pressed={looks.view === 'list'}
          aria-label="As a table"
          title="As a table"
          onClick={() => looks.change({ view: 'list' })}
        >
          <i className="bi bi-list-ul" aria-hidden />
        </Button>
        <Button
          variant="choice"
          aria-pressed={looks.view === 'tiles'}
          aria-label="As tiles"
          title="As tiles"
          onClick={() => looks.change({ view: 'tiles' })}
        >
          <i className="bi bi-grid-3x3-gap" aria-hidden />
        </Button>
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

/** Files from the desktop: dropped, chosen, or a whole folder. */
function useAddFiles(folderId: string, allowed: boolean) {
  const { add } = useTransfers();
  const collected = useRef<Collected[]>([]);
  const take = (files: Collected[]) => {
    if (!allowed) useNotices.getState().show('You may not add files here.', { bad: true });
    else if (files.length > 0) void add(folderId, files);
  };
  const zone = useDropzone({
    noClick: true,
    noKeyboard: true,
    getFilesFromEvent: async (event) => {
      if (Array.isArray(event)) return [];
      // While something is only held over the page there is nothing to read yet.
      if ('type' in event && event.type !== 'drop' && event.type !== 'change')
        return [...((event as React.DragEvent).dataTransfer?.items ?? [])];
      const native = ('nativeEvent' in event ? event.nativeEvent : event) as Event;
      collected.current = await collect(native);
      return collected.current.map((c) => c.file);
    },
    onDrop: () => take(collected.current.splice(0)),
  });
  return { ...zone, take };
}

function AddButton({
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

function SelectionBar({
  chosen,
  may,
  hand,
  paste,
  ontoSlip,
  verbs,
  selection,
}: {
  chosen: NodeItem[];
  may: May;
  hand: { items: { name: string }[]; how: 'move' | 'copy' } | null;
  paste: () => void;
  ontoSlip: () => void;
  verbs: {
    rename: (item: NodeItem) => void;
    tags: (items: NodeItem[]) => void;
    move: (items: NodeItem[]) => void;
    trash: () => void;
  };
  selection: Selection;
}) {
  const only = chosen.length === 1 ? chosen[0] : undefined;
  const total = totalOf(chosen, useSizes(chosen));
  if (chosen.length === 0) {
    return (
      <div className="selection-bar idle">
        {hand && hand.items.length > 0 ? (
          <>
            <Button variant="plain" onClick={paste}>
              {hand.how === 'move' ? 'Move' : 'Copy'}{' '}
              {hand.items.length === 1 ? hand.items[0]?.name : countOf(hand.items.length, 'item')} here{' '}
              <kbd>Ctrl V</kbd>
            </Button>
          </>
        ) : (
          'Select items to put them on the slip, move, download or tag them. Press ? for the keys.'
        )}
      </div>
    );
  }
  return (
    <div className="selection-bar" role="toolbar" aria-label="Selected items">
      <strong className="text-nowrap">{chosen.length} selected</strong>
      <span className="quiet text-nowrap">{total === null ? 'counting' : formatSize(total)}</span>
      {may('publish', chosen) && (
        <Button onClick={ontoSlip}>
          Put on slip <kbd className="bg-transparent border border-light-subtle">S</kbd>
        </Button>
      )}
      {may('read', chosen) && (
        <Button variant="plain" onClick={() => download(chosen)}>
          Download
        </Button>
      )}
      {may('remove', chosen) && (
        <Button variant="plain" onClick={() => verbs.move(chosen)}>
          Move
        </Button>
      )}
      {may('change', chosen) && (
        <Button variant="plain" onClick={() => verbs.tags(chosen)}>
          Tag
        </Button>
      )}
      {only && may('change', chosen) && (
        <Button variant="plain" onClick={() => verbs.rename(only)}>
          Rename
        </Button>
      )}
      {may('remove', chosen) && (
        <Button variant="plain" onClick={verbs.trash}>
          Trash
        </Button>
      )}
      <button type="button" className="btn btn-sm ms-auto" aria-label="Clear the selection" onClick={selection.clear}>
        <i className="bi bi-x-lg" aria-hidden />
      </button>
    </div>
  );
}

function entriesFor(
  chosen: NodeItem[],
  act: {
    may: (act: Act) => boolean;
    open: (item: NodeItem) => void;
    ontoSlip: () => void;
    take: (how: 'move' | 'copy') => void;
    setDialog: (dialog: Dialog) => void;
    pin: (on: boolean) => void;
    details: () => void;
    trash: () => void;
  },
): (MenuEntry | null)[] {
  const only = chosen.length === 1 ? chosen[0] : undefined;
  const pinned = chosen.every((i) => i.pinned);
  const entries: (MenuEntry | null | false | undefined)[] = [
    only && {
      words: only.kind === 'folder' ? 'Open' : 'Look at it',
      key: only.kind === 'folder' ? 'Enter' : 'Space',
      run: () => act.open(only),
    },
    act.may('read') && { words: 'Download', run: () => download(chosen) },
    act.may('publish') && { words: 'Put on slip', key: 's', run: act.ontoSlip },
    null,
    act.may('remove') && {
      words: 'Move to ...',
      key: 'm',
      run: () => act.setDialog({ kind: 'choose', items: chosen, how: 'move' }),
    },
    act.may('read') && {
      words: 'Copy to ...',
      run: () => act.setDialog({ kind: 'choose', items: chosen, how: 'copy' }),
    },
    act.may('remove') && { words: 'Cut', key: 'Ctrl X', run: () => act.take('move') },
    act.may('read') && { words: 'Copy', key: 'Ctrl C', run: () => act.take('copy') },
    act.may('change') &&
      only && { words: 'Rename', key: 'F2', run: () => act.setDialog({ kind: 'rename', item: only }) },
    null,
    act.may('change') && { words: 'Tags ...', key: 't', run: () => act.setDialog({ kind: 'tags', items: chosen }) },
    { words: pinned ? 'Unpin' : 'Pin', run: () => act.pin(!pinned) },
    only && { words: 'Details', key: 'i', run: act.details },
    act.may('remove') && null,
    act.may('remove') && { words: 'Move to the trash', key: 'Del', bad: true, run: act.trash },
  ];
  return entries.filter((e): e is MenuEntry | null => e === null || Boolean(e));
}

/** The browser shows the progress of a download: the size is announced. */
export function download(items: { id: string; kind: 'folder' | 'file' }[]): void {
  const link = document.createElement('a');
  link.href = downloadPath(items);
  link.download = '';
  link.click();
}
