import { countOf, formatSize } from '@quay/core';
import { Button } from 'react-bootstrap';
import { Link } from 'react-router';
import { useNotices } from '../ui/notices';
import { useChangeShare } from '../ui/queries';
import { useSizes } from '../ui/sizes';
import { DropHint } from './drop';
import { SlipHead } from './head';
import { useSlip } from './store';
import { Items } from './what';

/** The slip while what is on it goes to a share that is out. */
export function AddTo({ share }: { share: { id: string; title: string } }) {
  const slip = useSlip();
  const change = useChangeShare();
  const sizes = useSizes(slip.items);
  const bytes = slip.items.reduce((sum, i) => sum + (sizes.get(i.id) ?? i.sizeBytes), 0);
  const add = () => {
    const ids = (frozen: boolean) => slip.items.filter((i) => (i.frozen ?? false) === frozen).map((i) => i.id);
    const items = { add: ids(false), addFrozen: ids(true), takeOff: [] };
    change.mutate(
      { id: share.id, change: { items } },
      {
        onSuccess: () => {
          useNotices.getState().show(`${countOf(slip.items.length, 'item')} more in ${share.title}.`);
          slip.clear();
        },
      },
    );
  };
  return (
    <form
      className="d-flex flex-column h-100 overflow-hidden"
      onSubmit={(e) => {
        e.preventDefault();
        add();
      }}
    >
      <SlipHead bytes={bytes} />
      <div className="slip-body">
        <div className="part">
          <h3>What</h3>
          <div>
            {slip.items.length > 0 ? (
              <Items sizes={sizes} />
            ) : (
              <p className="quiet mb-0">
                Select items in <Link to="/stores">the stores</Link> and put them on the slip.
              </p>
            )}
            <DropHint />
          </div>
        </div>
      </div>
      <div className="slip-foot">
        <p className="sentence">
          {slip.items.length === 0
            ? 'What you put on the slip'
            : `${countOf(slip.items.length, 'item')} (${formatSize(bytes)})`}{' '}
          will be in <Link to={`/shares/${share.id}`}>{share.title}</Link>, for whoever can open it, <b>at once</b>.
        </p>
        <button type="button" className="link small mb-2" onClick={() => slip.set({ addingTo: null })}>
          Make a new share of it instead
        </button>
        {change.error && (
          <p className="field-fault" role="alert">
            {change.error.message}
          </p>
        )}
        <div className="verbs">
          <Button type="submit" disabled={change.isPending || slip.items.length === 0}>
            {change.isPending ? 'Adding' : 'Add to the share'}
          </Button>
          <Button variant="plain" onClick={slip.clear}>
            Cancel
          </Button>
        </div>
      </div>
    </form>
  );
}
