import type { AccessTableAnswer, TableFolder, TableRow } from '@quay/contract';
import { readCellSign } from '@quay/core';
import { useVirtualizer, type Virtualizer } from '@tanstack/react-virtual';
import { useEffect, useRef, type KeyboardEvent } from 'react';
import { useNarrow } from '../../ui/narrow';
import { Gauge, signWords } from './gauge';
import './grid.scss';

const ROW_PX = 37;
const HEAD_PX = 54;

/** A cell: who, and where. */
export interface CellAt {
  row: number;
  column: number;
}

interface GridProps {
  table: AccessTableAnswer;
  /** The rows that are shown, headings between them. */
  rows: (TableRow | { heading: string })[];
  chosen: CellAt | null;
  choose: (cell: CellAt) => void;
  /** Goes on from the cell that is chosen then: keys may come faster than anything is drawn. */
  move: (next: (from: CellAt | null) => CellAt) => void;
}

/** Everybody against every folder. Only what is in sight is drawn; arrows move from cell to cell. */
export function Grid({ table, rows, chosen, choose, move }: GridProps) {
  const narrow = useNarrow();
  const scroll = useRef<HTMLDivElement>(null);
  const namePx = narrow ? 132 : 250;
  const down = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW_PX,
    overscan: 12,
    scrollPaddingStart: HEAD_PX,
  });
  const across = useVirtualizer({
    horizontal: true,
    count: table.folders.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => (narrow ? 74 : 82),
    overscan: 6,
    scrollPaddingStart: namePx,
  });
  useShown(chosen, down, across);
  return (
    <div
      className="access-grid"
      ref={scroll}
      role="grid"
      aria-label="Who reaches what"
      aria-rowcount={rows.length + 1}
      aria-colcount={table.folders.length + 1}
      tabIndex={chosen ? -1 : 0}
      onKeyDown={(e) => moveBy(e, rows, table.folders.length, move)}
    >
      <div style={{ width: namePx + across.getTotalSize(), height: HEAD_PX + down.getTotalSize() }}>
        <div className="grid-head" role="row" aria-rowindex={1} style={{ height: HEAD_PX }}>
          <span role="columnheader" className="corner" style={{ width: namePx }}>
            <span className="visually-hidden">Who</span>
          </span>
          {across.getVirtualItems().map(({ index, start, size }) => (
            <Head
              key={table.folders[index]?.id}
              folder={table.folders[index] as TableFolder}
              index={index}
              left={namePx + start}
              width={size}
            />
          ))}
        </div>
        {down.getVirtualItems().map(({ index, start }) => (
          <div
            key={keyOf(rows[index] as GridProps['rows'][number])}
            role="row"
            aria-rowindex={index + 2}
            className={'heading' in (rows[index] as object) ? 'grid-row is-heading' : 'grid-row'}
            style={{ transform: `translateY(${start}px)`, height: ROW_PX }}
          >
            <RowCells
              {...{ table, row: rows[index] as GridProps['rows'][number], index, across, namePx, chosen, choose }}
            />
          </div>
        ))}
      </div>
    </div>
  );
}

const keyOf = (row: GridProps['rows'][number]): string => ('heading' in row ? row.heading : row.id);

/** What is chosen stays in sight, and has the focus where the grid has it. */
function useShown(
  chosen: CellAt | null,
  down: Virtualizer<HTMLDivElement, Element>,
  across: Virtualizer<HTMLDivElement, Element>,
): void {
  const [row, column] = [chosen?.row, chosen?.column];
  useEffect(() => {
    if (row === undefined || column === undefined) return;
    down.scrollToIndex(row);
    across.scrollToIndex(column);
    const focus = requestAnimationFrame(() => {
      const grid = down.scrollElement;
      if (grid?.contains(document.activeElement) || document.activeElement === document.body)
        grid?.querySelector<HTMLElement>(`[data-cell="${row} ${column}"]`)?.focus({ preventScroll: true });
    });
    return () => cancelAnimationFrame(focus);
  }, [row, column, down, across]);
}

function Head({ folder, index, left, width }: { folder: TableFolder; index: number; left: number; width: number }) {
  const path = folder.name === folder.storeName ? folder.name : `${folder.storeName}, ${folder.name}`;
  const inner = folder.above !== null;
  return (
    <span
      role="columnheader"
      aria-colindex={index + 2}
      className={inner ? 'inner' : 'top'}
      style={{ left, width }}
      title={folder.closed ? `${path}: takes nothing over` : path}
    >
      <span>{folder.name}</span>
    </span>
  );
}

interface RowProps extends Omit<GridProps, 'rows' | 'move'> {
  row: GridProps['rows'][number];
  index: number;
  across: Virtualizer<HTMLDivElement, Element>;
  namePx: number;
}

function RowCells({ table, row, index, across, namePx, chosen, choose }: RowProps) {
  if ('heading' in row)
    return (
      <span role="rowheader" className="heading">
        {row.heading}
      </span>
    );
  return (
    <>
      <span role="rowheader" className="who" style={{ width: namePx }} title={row.name}>
        {row.name}
      </span>
      {across.getVirtualItems().map(({ index: column, start, size }) => {
        const folder = table.folders[column] as TableFolder;
        const sign = readCellSign(row.cells.charAt(column));
        const isChosen = chosen?.row === index && chosen.column === column;
        return (
          <span
            key={folder.id}
            role="gridcell"
            aria-colindex={column + 2}
            aria-selected={isChosen}
            tabIndex={isChosen ? 0 : -1}
            data-cell={`${index} ${column}`}
            aria-label={`${row.name}, ${folder.name}: ${signWords(sign)}`}
            className={folder.closed ? 'is-closed' : ''}
            style={{ left: namePx + start, width: size }}
            onClick={() => choose({ row: index, column })}
          >
            <Gauge sign={sign} />
          </span>
        );
      })}
    </>
  );
}

/** Rows and columns that a key goes on by (WAI-ARIA, data grids); the ends of a row are far enough away. */
const STEPS: Record<string, [rows: number, columns: number]> = {
  ArrowDown: [1, 0],
  ArrowUp: [-1, 0],
  ArrowRight: [0, 1],
  ArrowLeft: [0, -1],
  PageDown: [10, 0],
  PageUp: [-10, 0],
  Home: [0, -Infinity],
  End: [0, Infinity],
};

function moveBy(event: KeyboardEvent, rows: GridProps['rows'], columns: number, move: GridProps['move']): void {
  const step = STEPS[event.key];
  const real = rows.flatMap((row, i) => ('heading' in row ? [] : [i]));
  if (!step || event.altKey || event.ctrlKey || event.metaKey || real.length === 0 || columns === 0) return;
  event.preventDefault();
  event.stopPropagation();
  const within = (n: number, count: number) => Math.max(0, Math.min(count - 1, n));
  move((from) => ({
    row: real[within((from ? real.indexOf(from.row) : -1) + step[0], real.length)] as number,
    column: within((from?.column ?? -1) + step[1], columns),
  }));
}
