import type { IntakeSheet, Reminded } from '@quay/contract';
import { countOf } from '@quay/core';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { tellFailure, useNotices } from '../../ui/notices';
import { When } from '../../ui/words';
import { useRemind } from './queries';
import './expected.scss';

/** Those that are shown at once. */
const SHOWN = 8;

/** Those who were asked by name: who has handed something in, and who has not and can be reminded. */
export function ExpectedPart({ intake: { id, state, people, expected } }: { intake: IntakeSheet }) {
  const { mutate, isPending } = useRemind(id);
  const tell = useNotices((s) => s.show);
  const [isAll, setIsAll] = useState(false);
  if (people === null) return null;
  const missing = people.of - people.handedIn;
  const shown = isAll ? expected : expected.slice(0, SHOWN);
  return (
    <section>
      <h3>
        {people.handedIn} of {countOf(people.of, 'person', 'people')} {people.handedIn === 1 ? 'has' : 'have'} handed
        something in
      </h3>
      <ul className="expected">
        {shown.map(({ who, handedInAt, remindedAt, byMail }) => (
          <li key={who}>
            <span className="who">
              <bdi>{who}</bdi>
            </span>
            <span className="quiet small">
              {handedInAt ? (
                <When at={handedInAt} />
              ) : remindedAt ? (
                <>
                  written to <When at={remindedAt} />
                </>
              ) : byMail ? (
                'nothing yet'
              ) : (
                'nothing yet; no mail address'
              )}
            </span>
          </li>
        ))}
      </ul>
      {!isAll && expected.length > SHOWN && (
        <Button size="sm" variant="plain" onClick={() => setIsAll(true)}>
          Show all {expected.length.toLocaleString('en-GB')}
        </Button>
      )}
      {people.of > expected.length && <p className="quiet small mb-1">The others are counted, and not listed.</p>}
      {missing > 0 && state === 'open' && (
        <div className="verbs mt-2">
          <Button
            size="sm"
            variant="plain"
            disabled={isPending}
            onClick={() => mutate(undefined, { onSuccess: (came) => tell(wordsOf(came)), onError: tellFailure })}
          >
            Write to {missing === 1 ? 'the one' : `the ${missing}`} who {missing === 1 ? 'has' : 'have'} not
          </Button>
        </div>
      )}
    </section>
  );
}

function wordsOf({ written, lately, without }: Reminded): string {
  const parts = [
    written > 0 && `${countOf(written, 'person', 'people')} ${written === 1 ? 'is' : 'are'} written to`,
    lately > 0 && `${lately} ${lately === 1 ? 'was' : 'were'} less than 12 hours ago`,
    without > 0 && `${without} ${without === 1 ? 'has' : 'have'} no mail address here`,
  ].filter(Boolean);
  return parts.length === 0 ? 'Everybody has handed something in.' : `${parts.join('; ')}.`;
}
