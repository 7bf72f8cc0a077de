import {
  DEFAULT_FOLDER_PATTERN,
  GIGABYTE,
  INTAKE_LIMITS,
  type Asked,
  type ContentKind,
  type Question,
} from '@quay/core';
import { create } from 'zustand';
import { persist } from 'zustand/middleware';
import { FOR_ANYONE, type ChosenAudience } from './audience/chosen';
import type { PasswordChoice } from './password-field';
import type { ChosenWindow } from './window-choice';

/** What is asked for, as it is typed. */
export interface IntakeFields extends ChosenWindow, ChosenAudience {
  title: string;
  message: string;
  passwordChoice: PasswordChoice;
  password: string;
  bits: number;
  weakMeant: boolean;
  waits: boolean;
  /** Only some of it goes straight in: of these kinds, at most so many megabytes, from those who are proven. */
  straightSome: boolean;
  straightKinds: readonly ContentKind[] | null;
  straightField: string;
  provenOnly: boolean;
  /** Each contributor gets a folder, called so. */
  hasFolders: boolean;
  folderPattern: string;
  /** Gigabytes. */
  fileField: string;
  filesField: string;
  eachField: string;
  allField: string;
  kinds: readonly ContentKind[] | null;
  name: Asked;
  mail: Asked;
  firm: Asked;
  own: readonly Question[];
  receiptByMail: boolean;
  /** Those who have handed nothing in are reminded so many days before it closes. */
  reminds: boolean;
  remindField: string;
  /** Of the link; empty: the office's usual one. */
  addressId: string;
}

const gigabytes = (bytes: number): string => String(bytes / GIGABYTE);

export const NEW_INTAKE: IntakeFields = {
  ...{ title: '', message: '', choice: '1-week', opensField: '', closesField: '' },
  ...{ passwordChoice: 'none', password: '', bits: 0, weakMeant: false, waits: true },
  ...{ straightSome: false, straightKinds: null, straightField: '', provenOnly: false },
  ...{ hasFolders: true, folderPattern: DEFAULT_FOLDER_PATTERN },
  fileField: gigabytes(INTAKE_LIMITS.fileBytes),
  filesField: String(INTAKE_LIMITS.files),
  eachField: gigabytes(INTAKE_LIMITS.contributorBytes),
  allField: gigabytes(INTAKE_LIMITS.allBytes),
  ...{ kinds: INTAKE_LIMITS.kinds, name: 'must', mail: 'may', firm: 'no', own: [], receiptByMail: true },
  ...FOR_ANYONE,
  ...{ reminds: false, remindField: '2', addressId: '' },
};

interface Draft {
  fields: IntakeFields;
  folder: { id: string; name: string } | null;
  set: (part: Partial<IntakeFields>) => void;
  into: (folder: { id: string; name: string } | null) => void;
  clear: () => void;
}

/** An intake that is being put together: it stays where it is left, also after a reload; its password does not. */
export const useIntakeDraft = create<Draft>()(
  persist(
    (set) => ({
      fields: NEW_INTAKE,
      folder: null,
      set: (part) => set(({ fields }) => ({ fields: { ...fields, ...part } })),
      into: (folder) => set({ folder }),
      clear: () => set({ fields: NEW_INTAKE, folder: null }),
    }),
    {
      name: 'quay-intake',
      partialize: ({ fields, folder }) => ({
        fields: { ...fields, passwordChoice: 'none' as const, password: '', bits: 0 },
        folder,
      }),
    },
  ),
);

/** Passwords of intakes that were just given one, by their ids. Kept in memory only. */
export const useFreshPassword = create<{
  passwords: Record<string, string>;
  keep: (id: string, password: string) => void;
}>((set) => ({
  passwords: {},
  keep: (id, password) => set(({ passwords }) => ({ passwords: { ...passwords, [id]: password } })),
}));

export function forgetIntakes(): void {
  useIntakeDraft.getState().clear();
  useFreshPassword.setState({ passwords: {} });
}
