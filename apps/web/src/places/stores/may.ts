import type { FolderHead, NodeItem } from '@quay/contract';
import type { Act } from '@quay/core';

export type May = (act: Act, items?: readonly NodeItem[]) => boolean;

/**
 * What may be done in a folder, or with items in it: with those that somebody brought, often more than with others. A
 * folder among them may be closed to them; the server then says so.
 */
export function mayIn(folder: Pick<FolderHead, 'acts' | 'own'> | null | undefined): May {
  return (act, items = []) => {
    if (!folder) return false;
    const onOwn = items.length > 0 && items.every((item) => item.mine) && folder.own.includes(act);
    return folder.acts.includes(act) || onOwn;
  };
}
