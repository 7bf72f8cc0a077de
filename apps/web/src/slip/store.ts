import type { ShareSheet } from '@quay/contract';
import { create } from 'zustand';
import { persist } from 'zustand/middleware';
import { proposedPassword } from '../ui/propose';
import { FOR_ANYONE, type ChosenAudience } from '../ui/audience/chosen';
import type { ChosenWindow, WindowChoice } from '../ui/window-choice';

export interface SlipItem {
  id: string;
  name: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
  /** Who reaches it is said of this: itself, or the folder that a file lies in. */
  folderId?: string;
}

export type PasswordChoice = 'proposed' | 'typed' | 'none';

interface SlipState extends ChosenWindow, ChosenAudience {
  items: SlipItem[];
  title: string;
  message: string;
  passwordChoice: PasswordChoice;
  password: string;
  proposedBits: number;
  weakPasswordMeant: boolean;
  limitField: string;
  /** The address the link is built on; '': the default. */
  addressId: string;
  folded: boolean;
  /** The share that was just published, with its password, until the hand-over is done. Kept in memory only. */
  published: { sheet: ShareSheet; password: string | null } | null;
  put: (items: SlipItem[]) => void;
  takeOff: (id: string) => void;
  set: (part: Partial<Omit<SlipState, 'put' | 'takeOff' | 'set' | 'clear' | 'fold' | 'propose'>>) => void;
  propose: () => Promise<void>;
  fold: (folded: boolean) => void;
  clear: () => void;
}

const BLANK = {
  items: [],
  title: '',
  message: '',
  ...FOR_ANYONE,
  choice: '1-week' as WindowChoice,
  opensField: '',
  closesField: '',
  passwordChoice: 'proposed' as PasswordChoice,
  password: '',
  proposedBits: 0,
  weakPasswordMeant: false,
  limitField: '',
  addressId: '',
  published: null,
};

/** The slip: survives moving between folders and a reload. Passwords are never written down in the browser. */
export const useSlip = create<SlipState>()(
  persist(
    (set, get) => ({
      ...BLANK,
      folded: false,
      put: (items) => {
        const present = new Set(get().items.map((i) => i.id));
        const added = items.filter((i) => !present.has(i.id));
        const first = get().items.length === 0 && added[0];
        set({
          items: [...get().items, ...added],
          folded: false,
          published: null,
          ...(first && get().title === '' && { title: first.name.replace(/\.[a-z0-9]{1,5}$/i, '') }),
        });
        if (get().passwordChoice === 'proposed' && get().password === '') void get().propose();
      },
      takeOff: (id) => set({ items: get().items.filter((i) => i.id !== id) }),
      set: (part) => set(part),
      propose: async () => {
        const { password, bits } = await proposedPassword();
        set({ password, proposedBits: bits, passwordChoice: 'proposed', weakPasswordMeant: false });
      },
      fold: (folded) => set({ folded }),
      clear: () => set({ ...BLANK }),
    }),
    {
      name: 'quay-slip', // What has been published is not put on the slip again by a reload.
      partialize: ({
        items,
        title,
        message,
        audience,
        listText,
        blockText,
        members,
        choice,
        opensField,
        closesField,
        limitField,
        addressId,
        folded,
        published,
      }) =>
        published
          ? { folded }
          : {
              ...{ items, title, message, audience, listText, blockText, members },
              ...{ choice, opensField, closesField, limitField, addressId, folded },
            },
    },
  ),
);
