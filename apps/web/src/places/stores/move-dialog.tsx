import { Button, Modal } from 'react-bootstrap';
import type { MoveAsked } from './queries';

/** A name is taken where items are moved to: asked once for all of them. */
export function MoveDialog({ asked, keepBoth, close }: { asked: MoveAsked; keepBoth: () => void; close: () => void }) {
  return (
    <Modal show onHide={close} aria-labelledby="move-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="move-title">
          A name is taken in {asked.toName}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>Nothing has moved yet. What has a name that is taken gets a number, like “plan (2).pdf”.</Modal.Body>
      <Modal.Footer>
        <Button variant="plain" onClick={close}>
          Leave everything
        </Button>
        <Button
          autoFocus
          onClick={() => {
            keepBoth();
            close();
          }}
        >
          Keep both{asked.items.length > 1 && ', for all'}
        </Button>
      </Modal.Footer>
    </Modal>
  );
}
