import type { CertificateOrder } from '@quay/contract';
import { Spinner } from 'react-bootstrap';
import { When } from '../../../ui/words';

/** How far a certificate has come that is being got, or what the authority said why there is none. */
export function Order({ order }: { order: CertificateOrder }) {
  if (order.failure !== null)
    return (
      <p className="needs-hand mb-1" role="status">
        {order.failure} (asked <When at={order.askedAt} brief />)
      </p>
    );
  return (
    <p className="mb-1" role="status">
      <Spinner animation="border" size="sm" aria-hidden /> {order.words} Asked <When at={order.askedAt} brief />; you
      may leave, it goes on by itself.
    </p>
  );
}
