import { useNotices } from '../../ui/notices';
import type { Collected } from '../../collect';
import { useDropped } from '../../ui/transfers/drop';
import { addFiles } from '../../ui/transfers/store';

/** Files from the desktop: dropped, chosen, or a whole folder. */
export function useAddFiles(folderId: string, allowed: boolean) {
  const bringIn = (files: Collected[]) => {
    if (!allowed) useNotices.getState().show('You may not add files here.', { bad: true });
    else if (files.length > 0) void addFiles(folderId, files);
  };
  return { ...useDropped(bringIn), bringIn };
}
