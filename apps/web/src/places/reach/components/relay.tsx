import { invitationSchema, type RelayState } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { Field, FormFault, useKeptForm } from '../../../ui/form';
import { networkQuery, useAcceptInvitation, useLeaveRelay } from '../queries';

/** The relay that the office was invited to, and the word by which it is. */
export function Relay() {
  const { data } = useQuery(networkQuery);
  const relay = data?.relay ?? null;
  return (
    <details>
      <summary>Relay: {relay ? `${relay.host}, ${relay.trouble ? 'no line' : 'the line stands'}` : 'none yet'}</summary>
      {relay ? <Standing relay={relay} /> : null}
      {relay?.from !== 'file' && <InvitationForm other={relay !== null} />}
    </details>
  );
}

function Standing({ relay }: { relay: RelayState }) {
  const leave = useLeaveRelay();
  return (
    <>
      {relay.trouble && <p className="needs-hand mb-1">No line stands: {relay.trouble}.</p>}
      <p className="small quiet mb-2">
        It knows this office as {relay.office}
        {relay.names.length > 0 && <>, and passes on {relay.names.join(', ')}</>}
        {relay.addresses.length > 0 && <>. Names must lead to {relay.addresses.join(' or ')}</>}.
        {relay.from === 'file' && ' The file says so.'}
      </p>
      {relay.from === 'settings' && (
        <Button size="sm" variant="plain" disabled={leave.isPending} onClick={() => leave.mutate(undefined)}>
          Leave this relay
        </Button>
      )}
    </>
  );
}

/** Takes an invitation. @param other it takes the place of one that was accepted before */
export function InvitationForm({ other }: { other: boolean }) {
  const accept = useAcceptInvitation();
  const { form, submit } = useKeptForm<{ code: string }>(invitationSchema, { code: '' }, (asked) =>
    accept.mutateAsync(asked),
  );
  return (
    <Form className="key-form" noValidate onSubmit={submit}>
      <Field
        {...{ form, name: 'code', id: 'relay-code', className: 'mono', required: true, autoComplete: 'off' }}
        label={other ? 'Another invitation, from relay1. to its end' : 'The invitation, from relay1. to its end'}
      />
      <FormFault form={form} />
      <Button type="submit" variant="plain" disabled={accept.isPending}>
        Accept
      </Button>
    </Form>
  );
}
