import { countOf, formatSize, someNames, STATE_WORDS } from '@quay/core';
import type { SharesUsing } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Form } from 'react-bootstrap';
import { ReachedInside } from '../ui/access/reached-inside';
import { sharesUsingQuery } from '../ui/queries';
import type { Sizes } from '../ui/sizes';
import { isActive, type Transfer } from '../ui/transfers/machine';
import { useTransfers } from '../ui/transfers/store';
import { DropHint } from './drop';
import { useSlip, type SlipItem } from './store';
import type { SlipTerms } from './terms';

/** What stands there when it is settled. */
export function WhatSaid() {
  const { items, title } = useSlip();
  return (
    <>
      {items.length === 0 ? <span className="quiet">nothing yet</span> : someNames(items.map((i) => i.name))}
      {items.some((i) => i.frozen) && <b>{items.every((i) => i.frozen) ? ' frozen' : ' partly frozen'}</b>} as{' '}
      <q>{title}</q>
    </>
  );
}

export function What({ meant, tried, sizes }: { meant: SlipTerms; tried: boolean; sizes: Sizes }) {
  const slip = useSlip();
  return (
    <>
      <Items sizes={sizes} />
      {slip.items.length === 0 && (
        <p className="quiet small mb-0">
          It can go out empty: whoever has the link sees the files as soon as you put them on it.
        </p>
      )}
      <DropHint />
      <ReachedInside folderIds={slip.items.flatMap((i) => i.folderId ?? [])} />
      <Form.Control
        className="mt-2"
        aria-label="Title"
        placeholder="Title the recipient sees"
        maxLength={120}
        value={slip.title}
        isInvalid={tried && Boolean(meant.faults.title)}
        onChange={(e) => slip.set({ title: e.target.value })}
      />
      <Form.Control
        className="mt-1"
        as="textarea"
        rows={1}
        aria-label="Message to the recipient"
        placeholder="Message (optional)"
        maxLength={2000}
        value={slip.message}
        onChange={(e) => slip.set({ message: e.target.value })}
      />
    </>
  );
}

/** The items, each as it is at the time or as it is now, and which other shares they are in. */
export function Items({ sizes }: { sizes: Sizes }) {
  const { items } = useSlip();
  const { data: using } = useQuery({ ...sharesUsingQuery(items.map((i) => i.id)), enabled: items.length > 0 });
  return (
    <ul className="what">
      {items.map((item) => (
        <Item key={item.id} item={item} bytes={sizes.get(item.id) ?? item.sizeBytes} using={using?.[item.id] ?? []} />
      ))}
    </ul>
  );
}

interface ItemProps {
  item: SlipItem;
  bytes: number;
  using: SharesUsing[string];
}

function Item({ item, bytes, using }: ItemProps) {
  const slip = useSlip();
  const { name, kind, frozen = false } = item;
  const [first] = using;
  const transfers = useTransfers(({ list }) => list);
  const arriving = transfers.filter((t) => t.folderId === item.id && isActive(t));
  return (
    <li>
      <div className="line">
        <span className="label" title={name}>
          {name}
        </span>
        <span className="quiet text-nowrap">
          {kind === 'folder' ? 'folder, ' : ''}
          {formatSize(bytes)}
        </span>
        <button
          type="button"
          className="btn btn-choice ms-auto"
          aria-label={frozen ? `${name}, frozen: make it live` : `${name}, live: freeze it`}
          title={frozen ? 'As it is now, whatever becomes of it' : 'As it is whenever somebody looks'}
          onClick={() => slip.freeze(item.id, !frozen)}
        >
          {frozen ? <b>frozen</b> : 'live'}
        </button>
        <button
          type="button"
          className="off"
          aria-label={`Take ${name} off the slip`}
          onClick={() => slip.takeOff(item.id)}
        >
          <i className="bi bi-x-lg" aria-hidden />
        </button>
      </div>
      {arriving.length > 0 && (
        <div className="small">
          {countOf(arriving.length, 'file')} still arriving, {percent(arriving)}. It can be shared before they are
          there.
        </div>
      )}
      {first && (
        <div className="quiet small">
          also in <q>{first.title}</q>, {STATE_WORDS[first.state]}
          {using.length > 1 && `, and ${using.length - 1} more`}
        </div>
      )}
    </li>
  );
}

function percent(transfers: readonly Transfer[]): string {
  const sum = (of: (t: Transfer) => number) => transfers.reduce((total, t) => total + of(t), 0);
  return `${Math.floor(
    (100 * sum((t) => t.sentBytes)) /
      Math.max(
        1,
        sum((t) => t.sizeBytes),
      ),
  )} %`;
}
