import type { CalendarLink } from '@quay/contract';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Button, Modal } from 'react-bootstrap';
import { api } from '../../ui/api';
import { CopyLine } from '../../ui/copy';
import { tellFailure } from '../../ui/notices';
import { calendarQuery } from '../../ui/queries';

/** The private address at which a calendar program finds the windows of one's shares. */
export function CalendarDialog({ close }: { close: () => void }) {
  const client = useQueryClient();
  const { data } = useQuery(calendarQuery);
  const change = useMutation({
    mutationFn: (method: 'POST' | 'DELETE') => api<CalendarLink>(method, '/api/calendar'),
    onSuccess: (link) => client.setQueryData(calendarQuery.queryKey, link),
    onError: tellFailure,
  });
  return (
    <Modal show onHide={close} aria-labelledby="calendar-title">
      <Modal.Header closeButton>
        <Modal.Title id="calendar-title">Your shares in a calendar</Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <p>
          A calendar program that subscribes to this address shows when your shares open and close. Whoever has the
          address sees the same; it opens none of the shares.
        </p>
        {data?.path && <CopyLine value={window.location.origin + data.path} label="address of the calendar" />}
      </Modal.Body>
      <Modal.Footer>
        {data?.path && (
          <Button variant="plain" disabled={change.isPending} onClick={() => change.mutate('DELETE')}>
            End this address
          </Button>
        )}
        <Button disabled={!data || change.isPending} onClick={() => change.mutate('POST')}>
          {data?.path ? 'Make a new address' : 'Make an address'}
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
