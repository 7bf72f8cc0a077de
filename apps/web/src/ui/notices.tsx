import type { QueryClient } from '@tanstack/react-query';
import { create } from 'zustand';
import './notices.scss';

interface Notice {
  id: number;
  words: string;
  bad: boolean;
  undo: (() => void) | null;
}

interface Notices {
  list: Notice[];
  show: (words: string, options?: { bad?: boolean; undo?: () => void }) => void;
  dismiss: (id: number) => void;
  clear: () => void;
  /** Takes back the last thing that can be taken back. */
  undoLast: () => void;
}

let nextId = 1;
const SHOWN_MS = 9000;

export const useNotices = create<Notices>((set, get) => ({
  list: [],
  show: (words, { bad = false, undo } = {}) => {
    const id = nextId;
    nextId += 1;
    set({ list: [...get().list.slice(-2), { id, words, bad, undo: undo ?? null }] });
    setTimeout(() => get().dismiss(id), bad ? SHOWN_MS * 2 : SHOWN_MS);
  },
  dismiss: (id) => set({ list: get().list.filter((n) => n.id !== id) }),
  clear: () => set({ list: [] }),
  undoLast: () => {
    const last = get().list.findLast((n) => n.undo);
    if (!last) return;
    get().dismiss(last.id);
    last.undo?.();
  },
}));

const LONGEST_WAIT_MS = 10_000;

/** Takes back the last thing that was asked for, also when its answer is still on its way. */
export async function undoWhenAnswered(client: QueryClient): Promise<void> {
  if (client.isMutating() > 0) {
    await new Promise<void>((resolve) => {
      const done = () => {
        clearTimeout(timer);
        stop();
        // The way back is offered just after the answer.
        setTimeout(resolve);
      };
      const timer = setTimeout(done, LONGEST_WAIT_MS);
      const stop = client.getMutationCache().subscribe(() => client.isMutating() === 0 && done());
    });
  }
  useNotices.getState().undoLast();
}

/** Tells what went wrong with something that was asked for. */
export function tellFailure(error: unknown): void {
  useNotices.getState().show(error instanceof Error ? error.message : 'That did not work.', { bad: true });
}

export function NoticeList() {
  const { list, dismiss } = useNotices();
  return (
    <div className="notices" role="status" aria-live="polite">
      {list.map((n) => (
        <div key={n.id} className={n.bad ? 'notice bad' : 'notice'}>
          <span>{n.words}</span>
          {n.undo && (
            <button
              type="button"
              onClick={() => {
                dismiss(n.id);
                n.undo?.();
              }}
            >
              Undo
            </button>
          )}
          <button type="button" aria-label="Close this notice" onClick={() => dismiss(n.id)}>
            <i className="bi bi-x" aria-hidden />
          </button>
        </div>
      ))}
    </div>
  );
}
