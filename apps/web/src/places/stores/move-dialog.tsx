import type { MoveWidens } from '@quay/contract';
import { countOf, LEVEL_WORDS } from '@quay/core';
import { Button, Modal } from 'react-bootstrap';
import type { ApiProblem } from '../../ui/api';
import type { MoveAsked, MoveHow } from './verbs';

/** Something to decide before items move: a name is taken there, or more people would reach them. */
export interface MoveQuestion {
  asked: MoveAsked;
  how: MoveHow;
  problem: ApiProblem;
}

export function MoveDialog({
  question: { asked, how, problem },
  go,
  close,
}: {
  question: MoveQuestion;
  go: (how: MoveHow) => void;
  close: () => void;
}) {
  const widens = problem.code === 'move.widens';
  const decide = () => {
    go(widens ? { ...how, widens: true } : { ...how, ifTaken: 'keep-both' });
    close();
  };
  return (
    <Modal show onHide={close} aria-labelledby="move-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="move-title">
          {widens ? `More people reach ${asked.toName}` : `A name is taken in ${asked.toName}`}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {widens ? (
          <Gains {...(problem.body as unknown as MoveWidens)} />
        ) : (
          'Nothing has moved yet. What has a name that is taken gets a number, like “plan (2).pdf”.'
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Leave everything
        </Button>
        <Button autoFocus onClick={decide}>
          {widens ? 'Move all the same' : `Keep both${asked.items.length > 1 ? ', for all' : ''}`}
        </Button>
      </Modal.Footer>
    </Modal>
  );
}

function Gains({ gains = [], people = 0 }: Partial<MoveWidens>) {
  const more = people - gains.length;
  return (
    <>
      <p>Nothing has moved yet. There, {countOf(people, 'person', 'people')} could do more with it than now:</p>
      <ul className="mb-0">
        {gains.map((g) => (
          <li key={g.name}>
            {g.name} {LEVEL_WORDS[g.level]}
          </li>
        ))}
        {more > 0 && <li>{countOf(more, 'more person', 'more people')}</li>}
      </ul>
    </>
  );
}
