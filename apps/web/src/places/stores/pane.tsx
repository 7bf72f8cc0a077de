import type { FolderHead, NodeItem, SortKey } from '@quay/contract';
import { countOf } from '@quay/core';
import { useCallback, useLayoutEffect, useState, type MouseEvent, type RefObject } from 'react';
import { Button } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { useSlip } from '../../slip/store';
import { useKeys } from '../../ui/keys';
import { useOffer } from '../../ui/offered';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { useAddFiles } from './add-files';
import { commandsFor, keysOf, menuOf, type Dialog } from './commands';
import { beginDrag, download, useDropTarget, type Dragged } from './drag';
import { useFolderItems } from './folder-items';
import { FolderTable, type ListProps } from './folder-table';
import { FolderTiles } from './folder-tiles';
import { ContextMenu } from './menu';
import { MoveDialog } from './move-dialog';
import { PaneDialog } from './pane-dialogs';
import { movingKeys } from './pane-keys';
import { AddButton, FolderTools, Title, type Beside } from './pane-tools';
import { PathLine } from './path-line';
import { usePutting } from './putting';
import { SelectionBar } from './selection-bar';
import { useLooks } from './store';
import { namesOf, useLabels, useTrash } from './verbs';
import './pane.scss';

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
  beside?: Beside;
}

/** One folder of a store: its title, path, tools, and items as a table or tiles. */
export function Pane(props: PaneProps) {
  const shown = useFolderItems(props.folderId);
  if (shown.error) return <Failure error={shown.error} again={shown.again} />;
  if (!shown.folder) return <SkeletonRows />;
  return <OpenPane {...props} {...shown} folder={shown.folder} />;
}

type Shown = ReturnType<typeof useFolderItems> & { folder: FolderHead };

function OpenPane(props: PaneProps & Shown) {
  const { folderId, folder, active, activate, go, onFocus, beside, items, selection, chosen, may } = props;
  const [dialog, setDialog] = useState<Dialog | null>(null);
  const putting = usePutting();
  const { question, setQuestion, moveAs, putDown } = putting;
  const menu = useMenu(props);
  const navigate = useNavigate();
  const mayAdd = may('add');
  const commands = useCommands(props, putting.toClipboard, setDialog);
  const [columns, setColumns] = useState(5);
  usePaneKeys(props, columns, commands, {
    paste: () => mayAdd && putting.paste(folder),
    newFolder: () => mayAdd && setDialog({ kind: 'new-folder' }),
  });
  const focused = items[selection.focus] ?? null;
  useLayoutEffect(() => {
    onFocus(chosen.length === 1 ? (chosen[0] ?? null) : focused);
  }, [chosen, focused, onFocus]);
  const drop = useAddFiles(folderId, mayAdd);
  const { root, scroller } = useScroller(drop.rootRef);
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
            addFolder={drop.bringIn}
            newFolder={() => setDialog({ kind: 'new-folder' })}
          />
        )}
        <FolderTools folder={folder} beside={beside} past={() => void navigate(`/stores/${folderId}/past`)} />
      </div>
      <SelectionBar
        chosen={chosen}
        commands={commands}
        held={mayAdd ? putting.clipboard : null}
        paste={() => putting.paste(folder)}
        clear={selection.clear}
      />
      {putting.busy && (
        <p className="pane-busy" role="status">
          {putting.busy}
        </p>
      )}
      <Items
        {...props}
        {...{ scroller, columns, setColumns, putDown }}
        addFiles={mayAdd ? drop.open : null}
        menu={menu.open}
      />
      {menu.at && chosen.length > 0 && <ContextMenu at={menu.at} close={menu.close} entries={menuOf(commands)} />}
      {dialog && <PaneDialog dialog={dialog} folderId={folderId} put={putting.put} close={() => setDialog(null)} />}
      {question && (
        <MoveDialog question={question} go={(how) => moveAs(question.asked, how)} close={() => setQuestion(null)} />
      )}
    </div>
  );
}

/** What can be done to the chosen items; offered in the command box too. */
function useCommands(
  { active, chosen, items, may, go, view }: PaneProps & Shown,
  toClipboard: (items: NodeItem[], how: 'move' | 'copy') => void,
  ask: (dialog: Dialog) => void,
) {
  const { trash } = useTrash();
  const { pin } = useLabels();
  const looks = useLooks();
  const slip = useSlip();
  const commands = commandsFor(chosen, (act) => may(act, chosen), {
    open: (item) => (item.kind === 'folder' ? go(item.id) : view(item, items)),
    download,
    ontoSlip: (those) =>
      slip.put(
        those.map(({ id, name, kind, sizeBytes, parentId }) => ({
          ...{ id, name, kind, sizeBytes },
          folderId: kind === 'folder' ? id : parentId,
        })),
      ),
    ask,
    toClipboard,
    pin: (those, on) => pin.mutate({ items: those, on }),
    details: () => looks.change({ details: true }),
    trash: (those) => trash.mutate(those),
  });
  const offered = commands.map(({ words, run }) => ({
    words: `${words.replace(' ...', '')}: ${namesOf(chosen)}`,
    run,
  }));
  useOffer(active ? offered : []);
  return commands;
}

function usePaneKeys(
  { active, folder, items, selection, go, view }: PaneProps & Shown,
  columns: number,
  commands: ReturnType<typeof commandsFor>,
  does: { paste: () => void; newFolder: () => void },
): void {
  const looks = useLooks();
  const navigate = useNavigate();
  const show = {
    open: (item: NodeItem) => (item.kind === 'folder' ? go(item.id) : view(item, items)),
    view: (item: NodeItem) => view(item, items),
  };
  const keys = {
    ...movingKeys(selection, items, looks.view === 'tiles' ? columns : 1, show),
    ...keysOf(commands),
    '/': () => void navigate(`/stores/find?storeId=${folder.storeId}`),
    i: () => looks.change({ details: !looks.details }),
    n: does.newFolder,
    'ctrl+v': does.paste,
    'alt+arrowup': () => folder.path.length > 1 && go(folder.path.at(-2)?.id as string),
  };
  useKeys(active ? keys : {});
}

/** Where the menu is open, and how it is opened: what is under the pointer becomes chosen. */
function useMenu({ items, selection, activate }: PaneProps & Shown) {
  const [at, setAt] = useState<{ x: number; y: number } | null>(null);
  const open = (event: MouseEvent, index: number) => {
    event.preventDefault();
    activate();
    if (!selection.ids.has(items[index]?.id ?? '')) selection.click(index, { ctrl: false, shift: false });
    setAt({ x: event.clientX, y: event.clientY });
  };
  return { at, open, close: () => setAt(null) };
}

interface ItemsProps extends PaneProps, Shown {
  scroller: HTMLElement | null;
  columns: number;
  setColumns: (columns: number) => void;
  /** Null where nobody may add any. */
  addFiles: (() => void) | null;
  menu: ListProps['menu'];
  putDown: (dragged: Dragged, how: 'move' | 'copy', to: Pick<FolderHead, 'id' | 'name'>) => void;
}

function Items(props: ItemsProps) {
  const { folderId, folder, items, marks, tags, selection, chosen, nearEnd, go, view } = props;
  const { scroller, columns, setColumns, addFiles, menu, putDown } = props;
  const looks = useLooks();
  const above = useAbove(scroller, chosen.length > 0, looks.view);
  const here = useDropTarget((dragged, copy) => putDown(dragged, copy ? 'copy' : 'move', folder));
  const list: ListProps = {
    ...{ items, total: folder.itemCount, marks, tags, selection, scroller, above, nearEnd, menu },
    mayAdd: addFiles !== null,
    open: (item) => (item.kind === 'folder' ? go(item.id) : view(item, items)),
    drag: (event, index) => {
      const item = items[index] as NodeItem;
      beginDrag(event, selection.ids.has(item.id) ? chosen : [item], folderId);
    },
    drop: (dragged, copy, onto) => putDown(dragged, copy ? 'copy' : 'move', onto),
  };
  const sort = (key: SortKey) =>
    looks.change({ sort: key, descending: looks.sort === key ? !looks.descending : key === 'changed' });
  return (
    <div {...here.props} className={`pane-list${here.over ? ' drop' : ''}`}>
      {items.length === 0 ? (
        <Empty action={addFiles && <Button onClick={addFiles}>Add files</Button>}>
          This folder is empty.{addFiles && ' Drag files or whole folders in, or choose them.'}
        </Empty>
      ) : looks.view === 'tiles' ? (
        <FolderTiles {...list} columns={columns} setColumns={setColumns} />
      ) : (
        <FolderTable {...list} order={looks} sort={sort} />
      )}
      {folder.litterCount > 0 && !looks.litter && (
        <p className="quiet small mt-2 mb-0">
          {countOf(folder.litterCount, 'file')} left behind by desktop systems {folder.litterCount === 1 ? 'is' : 'are'}{' '}
          hidden, and never published.
        </p>
      )}
    </div>
  );
}

/** In the state, because the rows can only be laid out when what they scroll in is there. */
function useScroller(rootRef: RefObject<HTMLElement | null>) {
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null);
  const root = useCallback(
    (element: HTMLDivElement | null) => {
      rootRef.current = element;
      setScroller(element);
    },
    [rootRef],
  );
  return { root, scroller };
}

/** Pixels between the top of what scrolls and the list, measured, because titles wrap. */
function useAbove(pane: HTMLElement | null, ...after: unknown[]): number {
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
