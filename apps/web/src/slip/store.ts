import type { DropPlace, ShareSheet } from '@quay/contract';
import { create } from 'zustand';
import { persist } from 'zustand/middleware';
import type { PasswordChoice } from '../ui/password-field';
import { proposedPassword } from '../ui/propose';
import { FOR_ANYONE, type ChosenAudience } from '../ui/audience/chosen';
import { DOWNLOADS, type ChosenMay } from '../ui/chosen-may';
import type { ChosenWindow, WindowChoice } from '../ui/window-choice';

export interface SlipItem {
  id: string;
  name: string;
  kind: 'folder' | 'file';
  sizeBytes: number;
  /** Who reaches it is said of this: itself, or the folder that a file lies in. */
  folderId?: string;
  /** It is shared as it is now; else as it is at the time. */
  frozen?: boolean;
  /** It was made for files that were dropped on the slip; the next ones go there too. */
  dropped?: boolean;
}

export type SlipPassword = Exclude<PasswordChoice, 'kept'>;

interface SlipState extends ChosenWindow, ChosenAudience, ChosenMay {
  /** It is there, with items or without. */
  begun: boolean;
  items: SlipItem[];
  /** The share that is out to which what is on the slip goes; null: to a new one. */
  addingTo: { id: string; title: string } | null;
  title: string;
  message: string;
  passwordChoice: SlipPassword;
  password: string;
  proposedBits: number;
  weakPasswordMeant: boolean;
  limitField: string;
  /** Its files go to the trash when it closes. */
  removesFiles: boolean;
  /** The address the link is built on; '': the default. */
  addressId: string;
  /** The folder that files go to which are dropped on it; null: the one for what goes out. */
  place: DropPlace | null;
  folded: boolean;
  /** The share that was just published, with its password, until the hand-over is done. Kept in memory only. */
  published: { sheet: ShareSheet; password: string | null } | null;
  /** Puts on it what a share was that is to go out once more. */
  again: (share: Partial<Omit<SlipState, 'set'>>) => void;
  /** Opens it, for a new share or for one that is out. */
  begin: (addingTo?: { id: string; title: string }) => void;
  put: (items: SlipItem[]) => void;
  takeOff: (id: string) => void;
  freeze: (id: string, frozen: boolean) => void;
  set: (
    part: Partial<
      Omit<SlipState, 'begin' | 'again' | 'put' | 'takeOff' | 'freeze' | 'set' | 'clear' | 'fold' | 'propose'>
    >,
  ) => void;
  propose: () => Promise<void>;
  fold: (folded: boolean) => void;
  clear: () => void;
}

const BLANK = {
  begun: false,
  items: [] as SlipItem[],
  addingTo: null,
  title: '',
  message: '',
  ...FOR_ANYONE,
  ...DOWNLOADS,
  choice: '1-week' as WindowChoice,
  opensField: '',
  closesField: '',
  passwordChoice: 'proposed' as SlipPassword,
  password: '',
  proposedBits: 0,
  weakPasswordMeant: false,
  limitField: '',
  removesFiles: false,
  addressId: '',
  place: null as DropPlace | null,
  published: null,
};

/** The slip: survives moving between folders and a reload. Passwords are never written down in the browser. */
export const useSlip = create<SlipState>()(
  persist(
    (set, get) => ({
      ...BLANK,
      folded: false,
      begin: (addingTo) => set({ begun: true, folded: false, published: null, addingTo: addingTo ?? null }),
      again: (share) => {
        set({ ...BLANK, ...share, begun: true, folded: false });
        if (get().passwordChoice === 'proposed') void get().propose();
      },
      put: (items) => {
        const present = new Set(get().items.map((i) => i.id));
        const added = items.filter((i) => !present.has(i.id));
        const first = get().items.length === 0 && added[0];
        set({
          begun: true,
          items: [...get().items, ...added],
          folded: false,
          published: null,
          ...(first && get().title === '' && { title: first.name.replace(/\.[a-z0-9]{1,5}$/i, '') }),
        });
        if (get().passwordChoice === 'proposed' && get().password === '') void get().propose();
      },
      takeOff: (id) => set({ items: get().items.filter((i) => i.id !== id) }),
      freeze: (id, frozen) => set({ items: get().items.map((i) => (i.id === id ? { ...i, frozen } : i)) }),
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
        begun,
        items,
        addingTo,
        title,
        message,
        audience,
        listText,
        blockText,
        members,
        level,
        seesOthers,
        takesField,
        watermark,
        fileLimitField,
        choice,
        opensField,
        closesField,
        limitField,
        removesFiles,
        addressId,
        place,
        folded,
        published,
      }) =>
        published
          ? { folded }
          : {
              ...{ begun, items, addingTo, title, message, audience, listText, blockText, members },
              ...{ level, seesOthers, takesField, watermark, fileLimitField },
              ...{ choice, opensField, closesField, limitField, removesFiles, addressId, place, folded },
            },
    },
  ),
);
