import { create } from 'zustand';
import { persist } from 'zustand/middleware';
import type { Order } from './queries';

/** How somebody likes to look at folders; kept in this browser. */
interface Looks extends Order {
  view: 'list' | 'tiles';
  details: boolean;
  change: (part: Partial<Omit<Looks, 'change'>>) => void;
}
export const useLooks = create<Looks>()(
  persist(
    (set) => ({
      view: 'list',
      sort: 'name',
      descending: false,
      litter: false,
      details: false,
      change: (part) => set(part),
    }),
    { name: 'quay-looks' },
  ),
);

/** What was cut or copied, to be put down in another folder. */
export interface Clipboard {
  items: { id: string; name: string }[];
  how: 'move' | 'copy';
  put: (items: { id: string; name: string }[], how: 'move' | 'copy') => void;
}
export const useClipboard = create<Clipboard>((set) => ({
  items: [],
  how: 'copy',
  put: (items, how) => set({ items, how }),
}));
