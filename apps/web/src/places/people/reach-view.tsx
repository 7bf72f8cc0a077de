import type { AccessTableAnswer, TableRow } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { useKeys } from '../../ui/keys';
import { useSearch } from '../../ui/search';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { CellSheet } from './cell-sheet';
import { Legend } from './gauge';
import { Grid, type CellAt } from './grid';
import { MomentBar, nextMoment } from './moment-bar';
import { momentsQuery, tableQuery } from './queries';
import { ShiftsSheet } from './shifts';

const HEADINGS: Record<TableRow['kind'], string> = {
  group: 'Groups',
  staff: 'Groups',
  person: 'Staff',
  guest: 'Guests and links',
  links: 'Guests and links',
};

/** People and groups against stores and opened folders, now or at a moment. All of it stands in the address. */
export function ReachView() {
  const [params, change] = useSearch();
  const at = params.get('at');
  const { data: whole, error, refetch, isPlaceholderData } = useQuery(tableQuery(at));
  const { data: moments } = useQuery(momentsQuery);
  const show = (moment: string | null) => change({ at: moment, compare: null }, { replace: true });
  const step = (later: boolean) => () =>
    change((now) => ({ at: nextMoment(moments?.moments ?? [], now.get('at'), later), compare: null }), {
      replace: true,
    });
  useKeys({
    '[': step(false),
    ']': step(true),
    escape: () => change({ cell: null, compare: null }),
  });
  const asked = params.get('find') ?? '';
  const table = useMemo(() => (whole ? narrowed(whole, asked) : undefined), [whole, asked]);
  const rows = useMemo(() => (table ? rowsOf(table, asked) : []), [table, asked]);
  if (error && !table) return <Failure error={error} again={() => void refetch()} />;
  const comparing = at !== null && params.get('compare') === 'now';
  const cell = table ? cellIn(table, rows, params.get('cell')) : null;
  const textOf = ({ row, column }: CellAt): string | null => {
    const [who, folder] = [rows[row], table?.folders[column]];
    return who && !('heading' in who) && folder ? `${who.id} ${folder.id}` : null;
  };
  const move = (next: (from: CellAt | null) => CellAt) =>
    change((now) => ({ cell: textOf(next(table ? cellIn(table, rows, now.get('cell')) : null)) }), { replace: true });
  return (
    <>
      <MomentBar
        {...{ at, choose: show, comparing }}
        compare={(on) => change({ compare: on ? 'now' : null, cell: null })}
      />
      <div className={cell || comparing ? 'people-layout with-sheet' : 'people-layout'}>
        <div>
          {!table && <SkeletonRows />}
          {table && rows.length === 0 && <Empty>Nobody is called that, and no folder is.</Empty>}
          {table && rows.length > 0 && (
            <div aria-busy={isPlaceholderData}>
              <Grid table={table} rows={rows} chosen={cell} choose={(to) => move(() => to)} move={move} />
            </div>
          )}
          <Legend />
        </div>
        {comparing && <ShiftsSheet since={at} close={() => change({ compare: null })} />}
        {cell && !comparing && table && (
          <CellSheet
            key={`${params.get('cell')} ${at}`}
            row={rows[cell.row] as TableRow}
            folder={table.folders[cell.column] as AccessTableAnswer['folders'][number]}
            at={at}
            close={() => change({ cell: null })}
          />
        )}
      </div>
    </>
  );
}

/** Rows with headings between them. Whoever looks for a folder sees everybody. */
function rowsOf(table: AccessTableAnswer, find: string): (TableRow | { heading: string })[] {
  const matching = table.rows.filter((row) => matches(row.name, find));
  const shown = matching.length > 0 || foldersNamed(table, find) === 0 ? matching : table.rows;
  let last = '';
  return shown.flatMap((row) => {
    const heading = HEADINGS[row.kind];
    const first = heading !== last;
    last = heading;
    return first ? [{ heading }, row] : [row];
  });
}

const matches = (name: string, find: string): boolean => name.toLowerCase().includes(find.trim().toLowerCase());
const foldersNamed = (table: AccessTableAnswer, find: string): number =>
  find.trim() === '' ? 0 : table.folders.filter((f) => matches(f.name, find)).length;

/** Where folders are looked for, only those. */
function narrowed(table: AccessTableAnswer, find: string): AccessTableAnswer {
  if (foldersNamed(table, find) === 0) return table;
  const kept = table.folders.flatMap((f, i) => (matches(f.name, find) ? [i] : []));
  return {
    at: table.at,
    folders: kept.map((i) => table.folders[i] as AccessTableAnswer['folders'][number]),
    rows: table.rows.map((row) => ({ ...row, cells: kept.map((i) => row.cells.charAt(i)).join('') })),
  };
}

function cellIn(
  table: AccessTableAnswer,
  rows: (TableRow | { heading: string })[],
  text: string | null,
): CellAt | null {
  const [who, folder] = text?.split(' ') ?? [];
  const row = rows.findIndex((r) => 'id' in r && r.id === who);
  const column = table.folders.findIndex((f) => f.id === folder);
  return row === -1 || column === -1 ? null : { row, column };
}
