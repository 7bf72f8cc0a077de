import type { DepositFileRow } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Failure, SkeletonRows } from '../../ui/states';
import { Preview, ViewerFrame } from '../stores/viewer';
import { waitingFileQuery } from './queries';

interface DepositViewerProps {
  depositId: string;
  /** Those that can be looked at. */
  files: DepositFileRow[];
  id: string;
  go: (id: string) => void;
  close: () => void;
}

/** Files that wait, looked at one after the other: as pictures and text that the server made. */
export default function DepositViewer({ depositId, files, id, go, close }: DepositViewerProps) {
  const found = files.findIndex((f) => f.id === id);
  const file = files[found];
  const at = `/api/deposits/${depositId}/files/${id}`;
  const { data, error, refetch } = useQuery(waitingFileQuery(at));
  const step = (by: number) => {
    const next = files[found + by];
    if (next) go(next.id);
  };
  return (
    <ViewerFrame
      name={file?.path ?? ''}
      sizeBytes={file?.sizeBytes ?? null}
      place={{ at: found, of: files.length }}
      step={step}
      download={() => location.assign(`${at}/content`)}
      close={close}
    >
      {error ? (
        <Failure error={error} again={() => void refetch()} />
      ) : data && file ? (
        <Preview key={id} id={id} at={at} name={file.path} kind={data.kind} pages={data.pages} />
      ) : (
        <SkeletonRows />
      )}
    </ViewerFrame>
  );
}
