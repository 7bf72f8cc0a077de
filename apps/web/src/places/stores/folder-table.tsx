import type { NodeItem, ShareMarks } from '@quay/contract';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, type RefObject } from 'react';
import { Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { StateMark } from '../../ui/state-mark';
import { Size, When } from '../../ui/words';
import type { Selection } from './selection';

const ROW_PX = 34;

/** The rows of a folder. Only those in view exist, so that a folder of any length scrolls. */
export function FolderTable({ items, total, marks, selection, scroller, nearEnd, open }: { items: NodeItem[]; total: number; marks: ShareMarks; selection: Selection; scroller: RefObject<HTMLElement | null>; nearEnd: () => void; open: (item: NodeItem) => void }) {
  const rows = useVirtualizer({ count: items.length, getScrollElement: () => scroller.current, estimateSize: () => ROW_PX, overscan: 20, scrollMargin: 180 });
  const shown = rows.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= items.length - 40) nearEnd();
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
        <span role="columnheader">Name</span>
        <span role="columnheader">Shared</span>
        <span role="columnheader">Version</span>
        <span role="columnheader" className="number">
          Size
        </span>
        <span role="columnheader">Changed</span>
        <span role="columnheader">By</span>
      </div>
      <div className="position-relative" role="rowgroup" style={{ height: rows.getTotalSize() }}>
        {shown.map((row) => {
          const item = items[row.index] as NodeItem;
          return (
            <div
              key={item.id}
              role="row"
              aria-rowindex={row.index + 2}
              aria-selected={selection.ids.has(item.id)}
              className={`row-grid item position-absolute w-100${selection.focus === row.index ? ' focused' : ''}`}
              style={{ transform: `translateY(${row.start - rows.options.scrollMargin}px)` }}
              onClick={(e) => selection.click(row.index, { ctrl: e.ctrlKey || e.metaKey, shift: e.shiftKey })}
              onDoubleClick={() => open(item)}
            >
              <span role="gridcell">
                <Form.Check aria-label={`Select ${item.name}`} checked={selection.ids.has(item.id)} onClick={(e) => e.stopPropagation()} onChange={() => selection.toggle(row.index)} />
              </span>
              <span role="gridcell" className="name">
                <i className={`bi ${iconOf(item)}`} aria-hidden />
                {item.kind === 'folder' ? (
                  <Link to={`/stores/${item.id}`} onClick={(e) => e.stopPropagation()}>
                    {item.name}
                  </Link>
                ) : (
                  <span className="label" title={item.name}>
                    {item.name}
                  </span>
                )}
                {item.itemCount !== null && <span className="quiet">{item.itemCount === 1 ? '1 item' : `${item.itemCount} items`}</span>}
              </span>
              <span role="gridcell">{marks[item.id] && <StateMark state={marks[item.id] as ShareMarks[string]} />}</span>
              <span role="gridcell" className="quiet">
                {item.versionCount > 1 ? `v${item.versionCount}` : ''}
              </span>
              <span role="gridcell" className="number">
                {item.kind === 'file' && <Size bytes={item.sizeBytes} />}
              </span>
              <span role="gridcell">
                <When at={item.changedAt} brief />
              </span>
              <span role="gridcell" className="quiet">
                {item.changedBy}
              </span>
            </div>
          );
        })}
      </div>
    </div>
  );
}

function iconOf(item: NodeItem): string {
  if (item.kind === 'folder') return 'bi-folder';
  const type = item.mediaType ?? '';
  if (type.startsWith('image/')) return 'bi-file-earmark-image';
  if (type.startsWith('video/')) return 'bi-file-earmark-play';
  if (type.startsWith('audio/')) return 'bi-file-earmark-music';
  if (type === 'application/pdf') return 'bi-file-earmark-pdf';
  if (type.startsWith('text/')) return 'bi-file-earmark-text';
  if (type === 'application/zip') return 'bi-file-earmark-zip';
  return 'bi-file-earmark';
}
