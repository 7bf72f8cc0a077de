import { lookoutCodeSchema, type LookoutState } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Button, Form } from 'react-bootstrap';
import { CopyLine } from '../../../ui/copy';
import { Field, FormFault, useKeptForm } from '../../../ui/form';
import { When } from '../../../ui/words';
import { networkQuery, useForgetLookout, useLookoutCode, useTakeLookout } from '../queries';

/** Other Lockfast Quays that look at this one from outside, and the code by which two offices begin that. */
export function Lookouts() {
  const { data } = useQuery(networkQuery);
  const known = data?.lookouts ?? [];
  return (
    <details>
      <summary>
        Another Lockfast Quay that looks from outside:{' '}
        {known.length > 0 ? known.map((l) => l.name).join(', ') : 'none yet'}
      </summary>
      <p className="small quiet">
        Two offices can look whether each other's way in works. Neither sees anything but that. One makes a code, the
        other takes it.
      </p>
      {known.length > 0 && (
        <ul className="list-unstyled mb-2">
          {known.map((lookout) => (
            <Standing key={lookout.id} lookout={lookout} />
          ))}
        </ul>
      )}
      <MakeCode />
      <TakeCode />
    </details>
  );
}

function Standing({ lookout }: { lookout: LookoutState }) {
  const forget = useForgetLookout();
  const { name, url, answeredAt, askedAt, failure } = lookout;
  return (
    <li className="mb-1">
      {name} {url && <span className="mono text-break">{url.replace('https://', '')}</span>}{' '}
      {failure ? (
        <span className="needs-hand">did not look: {failure}.</span>
      ) : (
        <span className="quiet">
          {url === null ? (
            'cannot be called yet'
          ) : answeredAt ? (
            <>
              looked here <When at={answeredAt} />
            </>
          ) : (
            'has not looked yet'
          )}
          {askedAt && (
            <>
              ; this office looked there <When at={askedAt} />
            </>
          )}
          .
        </span>
      )}{' '}
      <Button
        size="sm"
        variant="plain"
        disabled={forget.isPending}
        aria-label={`End it with ${name}`}
        onClick={() => forget.mutate(lookout.id)}
      >
        End it
      </Button>
    </li>
  );
}

function MakeCode() {
  const make = useLookoutCode();
  return (
    <div className="mb-2">
      <Button variant="plain" className="mb-1" disabled={make.isPending} onClick={() => make.mutate(undefined)}>
        Make a code
      </Button>
      {make.data && (
        <>
          <CopyLine value={make.data.code} label="code for another office" />
          <p className="small quiet mb-0">
            It counts once, until <When at={make.data.endsAt} />. Whoever has it can have this office look at public
            addresses, and is asked to look at this one.
          </p>
        </>
      )}
    </div>
  );
}

function TakeCode() {
  const take = useTakeLookout();
  const { form, submit } = useKeptForm<{ code: string }>(lookoutCodeSchema, { code: '' }, (asked) =>
    take.mutateAsync(asked),
  );
  return (
    <Form className="key-form" noValidate onSubmit={submit}>
      <Field
        {...{ form, name: 'code', id: 'lookout-code', className: 'mono', required: true, autoComplete: 'off' }}
        label="A code of another office, from look1. to its end"
      />
      <FormFault form={form} />
      <Button type="submit" variant="plain" disabled={take.isPending}>
        Take it
      </Button>
    </Form>
  );
}
