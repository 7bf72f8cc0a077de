import type { FolderHead } from '@quay/contract';
import { FolderChooser } from './folder-chooser';
import type { Dialog } from './commands';
import { NameDialog } from './name-dialog';
import { TagDialog } from './tags';
import { namesOf, useNaming } from './verbs';

interface DialogProps {
  dialog: Dialog;
  folderId: string;
  put: (items: { id: string; name: string }[], how: 'move' | 'copy', to: Pick<FolderHead, 'id' | 'name'>) => void;
  close: () => void;
}

/** What a pane asks before it does something. */
export function PaneDialog({ dialog, folderId, put, close }: DialogProps) {
  const { rename, createFolder } = useNaming();
  switch (dialog.kind) {
    case 'new-folder': {
      const save = (name: string) => createFolder.mutateAsync({ folderId, name });
      return <NameDialog title="New folder" initial="" verb="Create" save={save} close={close} />;
    }
    case 'rename': {
      const { item } = dialog;
      const save = (name: string) => rename.mutateAsync({ item, name });
      return <NameDialog title={`Rename ${item.name}`} initial={item.name} verb="Rename" save={save} close={close} />;
    }
    case 'tags':
      return <TagDialog items={dialog.items} close={close} />;
    case 'choose': {
      const { items, how } = dialog;
      const verb = how === 'move' ? 'Move' : 'Copy';
      return (
        <FolderChooser
          title={`${verb} ${namesOf(items)}`}
          verb={`${verb} to`}
          startId={folderId}
          choose={(to) => put(items, how, to)}
          close={close}
        />
      );
    }
  }
}
