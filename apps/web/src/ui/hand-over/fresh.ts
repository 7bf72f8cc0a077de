import { create } from 'zustand';

interface Fresh {
  /** By share. Kept in memory only, and gone when the page is. */
  passwords: Readonly<Record<string, string>>;
  keep: (shareId: string, password: string) => void;
  forget: (shareId: string) => void;
}

/** Passwords that were set just now: the server has their hashes only, so that they are handed over now or replaced. */
export const useFresh = create<Fresh>((set) => ({
  passwords: {},
  keep: (shareId, password) => set(({ passwords }) => ({ passwords: { ...passwords, [shareId]: password } })),
  forget: (shareId) =>
    set(({ passwords }) => ({
      passwords: Object.fromEntries(Object.entries(passwords).filter(([id]) => id !== shareId)),
    })),
}));
