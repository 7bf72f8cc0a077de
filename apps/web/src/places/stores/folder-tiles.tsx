import type { NodeItem, ShareMarks } from '@quay/contract';
import { countOf, hasThumbnail, previewKind } from '@quay/core';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef, useState } from 'react';
import { Form } from 'react-bootstrap';
import { StateMark } from '../../ui/state-mark';
import { Size } from '../../ui/words';
import { useDropTarget } from './drag';
import type { ListProps } from './folder-table';
import { iconOf } from './icons';
import { Picture } from './picture';
import { TagDots } from './tags';
import './folder-tiles.scss';

const TILE_PX = { width: 168, height: 178 };

/** The items of a folder as pictures; only the rows in view exist. */
export function FolderTiles({
  columns,
  setColumns,
  ...props
}: ListProps & { columns: number; setColumns: (columns: number) => void }) {
  const { items, total, selection, scroller, above, nearEnd } = props;
  const grid = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = grid.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setColumns(Math.max(1, Math.floor(element.clientWidth / TILE_PX.width))));
    observer.observe(element);
    return () => observer.disconnect();
  }, [setColumns]);
  const rows = useVirtualizer({
    count: Math.ceil(items.length / columns),
    getScrollElement: () => scroller,
    estimateSize: () => TILE_PX.height,
    overscan: 4,
    scrollMargin: above,
  });
  const shown = rows.getVirtualItems();
  const last = (shown.at(-1)?.index ?? 0) * columns;
  useEffect(() => {
    if (last >= items.length - 60) nearEnd();
  }, [last, items.length, nearEnd]);
  useEffect(() => {
    if (selection.focus >= 0) rows.scrollToIndex(Math.floor(selection.focus / columns), { align: 'auto' });
    // Only a moved focus scrolls.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [selection.focus]);
  return (
    <div
      ref={grid}
      className="folder-tiles"
      role="grid"
      aria-label="Items"
      aria-rowcount={Math.ceil(total / columns)}
      aria-colcount={columns}
      aria-multiselectable
      style={{ height: rows.getTotalSize() }}
    >
      {shown.map((row) => (
        <div
          key={row.index}
          role="row"
          aria-rowindex={row.index + 1}
          className="tile-row"
          style={{
            transform: `translateY(${row.start - rows.options.scrollMargin}px)`,
            gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))`,
          }}
        >
          {items.slice(row.index * columns, (row.index + 1) * columns).map((item, i) => (
            <Tile key={item.id} {...props} item={item} index={row.index * columns + i} />
          ))}
        </div>
      ))}
    </div>
  );
}

function Tile({
  item,
  index,
  marks,
  tags,
  selection,
  open,
  menu,
  drag,
  drop,
  mayAdd,
}: ListProps & { item: NodeItem; index: number }) {
  const target = useDropTarget((dragged, copy) => drop(dragged, copy, item));
  const [hover, setHover] = useState(false);
  const selected = selection.ids.has(item.id);
  const icon = <i className={`bi ${iconOf(item)}`} aria-hidden />;
  return (
    <div
      role="gridcell"
      aria-selected={selected}
      className={`tile${selection.focus === index ? ' focused' : ''}${target.over ? ' drop' : ''}`}
      draggable
      onDragStart={(e) => drag(e, index)}
      {...(item.kind === 'folder' && mayAdd && target.props)}
      onMouseEnter={() => setHover(true)}
      onMouseLeave={() => setHover(false)}
      onClick={(e) => selection.click(index, { ctrl: e.ctrlKey || e.metaKey, shift: e.shiftKey })}
      onDoubleClick={() => open(item)}
      onContextMenu={(e) => menu(e, index)}
    >
      <div className="tile-picture">
        {item.kind === 'file' && hasThumbnail(previewKind(item.name)) ? (
          <Picture src={`/api/files/${item.id}/thumb?v=${item.versionCount}`} alt="" otherwise={icon} />
        ) : (
          icon
        )}
      </div>
      <Form.Check
        className={selected || hover ? 'tile-check' : 'tile-check resting'}
        aria-label={`Select ${item.name}`}
        checked={selected}
        onClick={(e) => e.stopPropagation()}
        onChange={() => selection.toggle(index)}
      />
      <div className="tile-name" title={item.name}>
        <bdi>{item.name}</bdi>
      </div>
      <div className="tile-facts quiet">
        {item.kind === 'file' ? <Size bytes={item.sizeBytes} /> : countOf(item.itemCount ?? 0, 'item')}
        {marks[item.id] && <StateMark state={marks[item.id] as ShareMarks[string]} />}
        {item.pinned && <i className="bi bi-pin-angle-fill pinned" role="img" aria-label="Pinned" />}
        <TagDots ids={item.tags} tags={tags} />
      </div>
    </div>
  );
}
