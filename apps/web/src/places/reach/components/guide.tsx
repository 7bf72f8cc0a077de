import type { AddressSheet, CertificateOrder, GuideProgress } from '@quay/contract';
import { Button } from 'react-bootstrap';
import { CopyLine } from '../../../ui/copy';
import { When } from '../../../ui/words';
import { useGuideStep } from '../queries';
import { Order } from './order';
import { InvitationForm } from './relay';
import './guide.scss';

/** The numbered steps of setting up an address: each done by the program, or by hand and then looked at. */
export function Guide({ address }: { address: AddressSheet }) {
  const step = useGuideStep(address.id);
  const next = address.guide.find((g) => !g.done)?.step;
  if (address.guide.length === 0)
    return <p className="quiet">This address is for the office network: nothing has to be set up for it.</p>;
  return (
    <>
      <p className="quiet">
        {next
          ? 'Each step needs the one before. What is done stays done: leave, and go on another day.'
          : 'Every step is done. What lapses is renewed by itself; see Renewals.'}
      </p>
      <ol className="guide">
        {address.guide.map((g) => (
          <Step
            key={g.step}
            entry={g}
            next={g.step === next}
            order={g.step === 'certificate' ? address.order : null}
            busy={step.isPending && step.variables?.step === g.step}
            waiting={step.isPending}
            run={(how) => step.mutate({ step: g.step, how })}
          />
        ))}
      </ol>
    </>
  );
}

function Step({
  entry,
  next,
  order,
  busy,
  waiting,
  run,
}: {
  entry: GuideProgress;
  next: boolean;
  order: CertificateOrder | null;
  busy: boolean;
  waiting: boolean;
  run: (how: 'program' | 'hand') => void;
}) {
  const isAtIt = order !== null && order.failure === null;
  return (
    <li className={entry.done ? 'done' : undefined}>
      <div>
        <h3>{entry.title}</h3>
        <p className="quiet">{entry.why}</p>
        <dl>
          {entry.values.map((v) => (
            <div key={v.label}>
              <dt>{v.label}</dt>
              <dd>
                <CopyLine value={v.value} label={`${entry.title}: ${v.label}`} />
              </dd>
            </div>
          ))}
        </dl>
        {entry.step === 'relay' && entry.cannot && <InvitationForm other={false} />}
        {order && <Order order={order} />}
        {entry.cannot && !entry.done && <p className="field-advice">By hand: {entry.cannot}</p>}
      </div>
      <div className="verbs">
        {entry.done ? (
          <span className="mark-ok">
            <i className="bi bi-check-lg" aria-hidden /> {entry.done.by === 'program' ? 'Done' : 'Seen'}{' '}
            <When at={entry.done.at} brief />
          </span>
        ) : null}
        {entry.step !== 'closed' && !entry.cannot && (
          <Button
            size="sm"
            variant={next ? 'primary' : 'plain'}
            disabled={waiting || isAtIt}
            onClick={() => run('program')}
          >
            {busy || isAtIt ? 'At it …' : entry.done ? 'Do it again' : 'Do it'}
          </Button>
        )}
        {!entry.done && (
          <Button size="sm" variant="plain" disabled={waiting} onClick={() => run('hand')}>
            {entry.step === 'closed' ? 'Look' : 'Done by hand: look'}
          </Button>
        )}
      </div>
    </li>
  );
}
