import type { NodeItem, ShareMarks, SortKey, Tag } from '@quay/contract';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, type DragEvent, type MouseEvent } from 'react';
import { Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { useNarrow } from '../../ui/narrow';
import { StateMark } from '../../ui/state-mark';
import { Size, When } from '../../ui/words';
import { useDropTarget, type Dragged } from './drag';
import { iconOf } from './icons';
import type { Order } from './queries';
import type { Selection } from './selection';
import { TagDots } from './tags';
import './folder-table.scss';

const ROW_PX = 34;
/** Two lines, where the window is narrow. */
const NARROW_ROW_PX = 52;

export interface ListProps {
  items: NodeItem[];
  total: number;
  marks: ShareMarks;
  tags: Tag[];
  selection: Selection;
  scroller: HTMLElement | null;
  /** Pixels above the list inside what scrolls. */
  above: number;
  nearEnd: () => void;
  open: (item: NodeItem) => void;
  menu: (event: MouseEvent, index: number) => void;
  drag: (event: DragEvent, index: number) => void;
  drop: (dragged: Dragged, copy: boolean, onto: NodeItem) => void;
  mayAdd: boolean;
}

const COLUMNS: [key: SortKey | null, name: string, className: string][] = [
  ['name', 'Name', ''],
  [null, 'Shared', 'shared'],
  [null, 'Version', 'version'],
  ['size', 'Size', 'number'],
  ['changed', 'Changed', 'changed'],
  [null, 'By', 'by'],
];

/** The rows of a folder. Only those in view exist, so that a folder of any length scrolls. */
export function FolderTable({ order, sort, ...props }: ListProps & { order: Order; sort: (key: SortKey) => void }) {
  const { items, total, selection, scroller, above, nearEnd } = props;
  const narrow = useNarrow();
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller,
    estimateSize: () => (narrow ? NARROW_ROW_PX : ROW_PX),
    overscan: 20,
    scrollMargin: above,
  });
  useEffect(() => rows.measure(), [narrow, rows]);
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= items.length - 60) nearEnd();
  }, [last, items.length, nearEnd]);
  useEffect(() => {
    if (selection.focus >= 0) rows.scrollToIndex(selection.focus, { align: 'auto' });
    // Only a moved focus scrolls; new rows do not.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [selection.focus]);
  return (
    <div className="folder-table" role="grid" aria-label="Items" aria-rowcount={total + 1} aria-multiselectable>
      <div className="row-grid head" role="row" aria-rowindex={1}>
        <span role="columnheader">
          <span className="visually-hidden">Selected</span>
        </span>
        {COLUMNS.map(([key, name, className]) => (
          <span
            key={name}
            role="columnheader"
            className={className}
            aria-sort={key !== null && key === order.sort ? (order.descending ? 'descending' : 'ascending') : undefined}
          >
            {key === null ? (
              name
            ) : (
              <button type="button" className="sorts" onClick={() => sort(key)}>
                {name}
                {key === order.sort && (
                  <i className={`bi ${order.descending ? 'bi-arrow-down-short' : 'bi-arrow-up-short'}`} aria-hidden />
                )}
              </button>
            )}
            {key === 'name' && (
              <button type="button" className="sorts by-type" onClick={() => sort('type')}>
                type
                {order.sort === 'type' && (
                  <i className={`bi ${order.descending ? 'bi-arrow-down-short' : 'bi-arrow-up-short'}`} aria-hidden />
                )}
              </button>
            )}
          </span>
        ))}
      </div>
      <div className="position-relative" role="rowgroup" style={{ height: rows.getTotalSize() }}>
        {shown.map((row) => {
          const item = items[row.index];
          return (
            item && (
              <Row key={item.id} {...props} item={item} index={row.index} top={row.start - rows.options.scrollMargin} />
            )
          );
        })}
      </div>
    </div>
  );
}

function Row({
  item,
  index,
  top,
  marks,
  tags,
  selection,
  open,
  menu,
  drag,
  drop,
  mayAdd,
}: ListProps & { item: NodeItem; index: number; top: number }) {
  const target = useDropTarget((dragged, copy) => drop(dragged, copy, item));
  const takes = item.kind === 'folder' && mayAdd;
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      aria-selected={selection.ids.has(item.id)}
      className={`row-grid item position-absolute w-100${selection.focus === index ? ' focused' : ''}${target.over ? ' drop' : ''}`}
      style={{ transform: `translateY(${top}px)` }}
      draggable
      onDragStart={(e) => drag(e, index)}
      {...(takes && target.props)}
      onClick={(e) => selection.click(index, { ctrl: e.ctrlKey || e.metaKey, shift: e.shiftKey })}
      onDoubleClick={() => open(item)}
      onContextMenu={(e) => menu(e, index)}
    >
      <span role="gridcell">
        <Form.Check
          aria-label={`Select ${item.name}`}
          checked={selection.ids.has(item.id)}
          onClick={(e) => e.stopPropagation()}
          onChange={() => selection.toggle(index)}
        />
      </span>
      <span role="gridcell" className="name">
        <i className={`bi ${iconOf(item)}`} aria-hidden />
        {item.kind === 'folder' ? (
          <Link to={`/stores/${item.id}`} draggable={false} onClick={(e) => e.stopPropagation()}>
            {item.name}
          </Link>
        ) : (
          <bdi className={item.litter ? 'label quiet' : 'label'} title={item.name}>
            {item.name}
          </bdi>
        )}
        {item.itemCount !== null && (
          <span className="quiet flex-shrink-0">
            {item.itemCount === 1 ? '1 item' : `${item.itemCount.toLocaleString('en-GB')} items`}
          </span>
        )}
        {item.pinned && <i className="bi bi-pin-angle-fill pinned" role="img" aria-label="Pinned" />}
        <TagDots ids={item.tags} tags={tags} />
      </span>
      <span role="gridcell" className="shared">
        {marks[item.id] && <StateMark state={marks[item.id] as ShareMarks[string]} />}
      </span>
      <span role="gridcell" className="quiet version">
        {item.versionCount > 1 ? `v${item.versionCount}` : ''}
      </span>
      <span role="gridcell" className="number">
        {item.kind === 'file' && <Size bytes={item.sizeBytes} />}
      </span>
      <span role="gridcell" className="changed">
        <When at={item.changedAt} brief />
      </span>
      <span role="gridcell" className="quiet by">
        {item.changedBy}
      </span>
    </div>
  );
}
