import type { FolderHead, NodeItem } from '@quay/contract';
import { useState } from 'react';
import { useNotices } from '../../ui/notices';
import type { Dragged } from './drag';
import type { MoveQuestion } from './move-dialog';
import { useClipboard } from './store';
import { moveAsks, namesOf, useMoves, type MoveAsked, type MoveHow } from './verbs';

type Target = Pick<FolderHead, 'id' | 'name'>;

/** Moving and copying in a pane: by dialog, by dragging, by cutting and putting down. A move may ask something first. */
export function usePutting() {
  const { move, copy } = useMoves();
  const clipboard = useClipboard();
  const [question, setQuestion] = useState<MoveQuestion | null>(null);
  const moveAs = (asked: MoveAsked, how: MoveHow): void =>
    void move
      .mutateAsync({ ...asked, ...how })
      .catch((problem: unknown) => moveAsks(problem) && setQuestion({ asked, how, problem }));
  const put = (items: { id: string; name: string }[], how: 'move' | 'copy', to: Target): void => {
    const asked = { items, toFolderId: to.id, toName: to.name };
    if (how === 'copy') copy.mutate(asked);
    else moveAs(asked, { ifTaken: 'refuse', widens: false });
  };
  const putDown = (dragged: Dragged, how: 'move' | 'copy', to: Target): void => {
    const moved = dragged.items.filter((i) => i.id !== to.id);
    if (moved.length > 0 && !(how === 'move' && dragged.fromFolderId === to.id)) put(moved, how, to);
  };
  const paste = (to: Target): void => {
    if (clipboard.items.length === 0) return;
    put(clipboard.items, clipboard.how, to);
    if (clipboard.how === 'move') clipboard.put([], 'copy');
  };
  const toClipboard = (items: NodeItem[], how: 'move' | 'copy'): void => {
    // Words that are marked on the page are what is meant then.
    if (window.getSelection()?.toString()) return;
    clipboard.put(
      items.map(({ id, name }) => ({ id, name })),
      how,
    );
    const done = how === 'move' ? 'cut' : 'copied';
    const them = items.length === 1 ? 'it' : 'them';
    useNotices.getState().show(`${namesOf(items)} ${done}. Ctrl V puts ${them} into the folder you go to.`);
  };
  const running = [move, copy].find((m) => m.isPending);
  const busy = running?.variables && `${running === move ? 'Moving' : 'Copying'} ${wordsOf(running.variables)} ...`;
  return { busy, question, setQuestion, moveAs, put, putDown, paste, toClipboard, clipboard };
}

const wordsOf = ({ items, toName }: MoveAsked): string => `${namesOf(items)} to ${toName}`;
