import { KINDS, type FindQuery, type FoundItem, type Kind } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useRef, type ReactNode } from 'react';
import { Form } from 'react-bootstrap';
import { Link, useSearchParams } from 'react-router';
import { useKeys } from '../../ui/keys';
import { storesQuery } from '../../ui/queries';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { useTyped } from '../../ui/typed';
import { Size, When } from '../../ui/words';
import { iconOf } from './icons';
import { colleaguesQuery, findQuery, tagsQuery } from './queries';
import { TagDots } from './tags';
import { Viewer } from './viewer';

const KIND_WORDS: Record<Kind, string> = {
  image: 'Pictures',
  pdf: 'PDF',
  text: 'Text and tables',
  drawing: 'Drawings and scans',
  audio: 'Sound',
  video: 'Video',
  archive: 'Archives',
  folder: 'Folders',
  other: 'Other',
};
const SIZES: [words: string, min: string, max: string][] = [
  ['any size', '', ''],
  ['under 1 MB', '', '1000000'],
  ['over 10 MB', '10000000', ''],
  ['over 100 MB', '100000000', ''],
  ['over 1 GB', '1000000000', ''],
];
const AGES: [words: string, days: number][] = [
  ['any time', 0],
  ['today', 1],
  ['this week', 7],
  ['this month', 31],
  ['this year', 366],
];
const NAMES = [
  'text',
  'inside',
  'storeId',
  'tagId',
  'kind',
  'personId',
  'minBytes',
  'maxBytes',
  'from',
  'to',
] as const satisfies readonly (keyof FindQuery)[];

/** Finds items by name, tag, kind, size, date and person. The search is in the address. */
export function Find() {
  const [search, setSearch] = useSearchParams();
  const field = useRef<HTMLInputElement>(null);
  const query = Object.fromEntries(
    NAMES.flatMap((n) => (search.get(n) ? [[n, search.get(n) as string]] : [])),
  ) as Partial<Record<keyof FindQuery, string>>;
  const asked = Object.keys(query).some((k) => k !== 'inside');
  const { data, error, isFetching } = useQuery({ ...findQuery(query), enabled: asked });
  const { data: stores = [] } = useQuery(storesQuery);
  const { data: tags = [] } = useQuery(tagsQuery);
  const { data: colleagues = [] } = useQuery(colleaguesQuery);
  const set = (change: Record<string, string>) =>
    setSearch(
      (s) => {
        for (const [name, value] of Object.entries(change))
          if (value) s.set(name, value);
          else s.delete(name);
        return s;
      },
      { replace: true },
    );
  const [text, setText] = useTyped(search.get('text') ?? '', (typed) => set({ text: typed }));
  useKeys({ '/': () => field.current?.focus() });
  const age = AGES.find(([, days]) => days > 0 && query.from === daysAgo(days)) ?? AGES[0];
  const size =
    SIZES.find(([, min, max]) => (query.minBytes ?? '') === min && (query.maxBytes ?? '') === max) ?? SIZES[0];
  return (
    <>
      <div className="title-line">
        <h1>
          {!asked
            ? 'Find in all stores.'
            : data
              ? `${data.more ? 'More than ' : ''}${countOf(data.items.length, 'item')} found.`
              : 'Looking ...'}
          {data?.more && <span className="quiet"> Narrow it down to see the rest.</span>}
        </h1>
      </div>
      <div className="find-form" role="search">
        <Form.Control
          ref={field}
          autoFocus
          aria-label="Words of the name"
          placeholder="Words of the name, or of a text inside"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <Choice
          label="Store"
          value={query.storeId ?? ''}
          set={(storeId) => set({ storeId })}
          options={[
            ['', 'all stores'],
            ...stores.map((s): [string, string] => [s.id, s.kind === 'home' ? 'My files' : s.name]),
          ]}
        />
        <Choice
          label="Kind"
          value={query.kind ?? ''}
          set={(kind) => set({ kind })}
          options={[['', 'any kind'], ...KINDS.map((k): [string, string] => [k, KIND_WORDS[k]])]}
        />
        <Choice
          label="Tag"
          value={query.tagId ?? ''}
          set={(tagId) => set({ tagId })}
          options={[['', 'any tag'], ...tags.map((t): [string, string] => [t.id, t.name])]}
        />
        <Choice
          label="Changed by"
          value={query.personId ?? ''}
          set={(personId) => set({ personId })}
          options={[['', 'by anybody'], ...colleagues.map((p): [string, string] => [p.id, p.name])]}
        />
        <Choice
          label="Size"
          value={size?.[0] ?? ''}
          set={(words) =>
            set({
              minBytes: SIZES.find((s) => s[0] === words)?.[1] ?? '',
              maxBytes: SIZES.find((s) => s[0] === words)?.[2] ?? '',
            })
          }
          options={SIZES.map(([words]) => [words, words])}
        />
        <Choice
          label="Changed"
          value={age?.[0] ?? ''}
          set={(words) =>
            set({
              from: AGES.find((a) => a[0] === words)?.[1] ? daysAgo(AGES.find((a) => a[0] === words)?.[1] ?? 0) : '',
            })
          }
          options={AGES.map(([words]) => [words, words])}
        />
        <Form.Check
          id="inside"
          label="inside texts"
          checked={query.inside === 'true'}
          onChange={(e) => set({ inside: e.target.checked ? 'true' : '' })}
        />
      </div>
      {error ? (
        <Failure error={error} />
      ) : !asked ? (
        <Empty>Type a part of a name, or choose a kind, a tag, a size or a time.</Empty>
      ) : !data ? (
        isFetching && <SkeletonRows />
      ) : data.items.length === 0 ? (
        <Empty>
          Nothing like that is in the stores you can see. Names are found from three letters on, anywhere in the name;
          shorter ones at its beginning.
        </Empty>
      ) : (
        <FoundTable items={data.items} />
      )}
    </>
  );
}

/** Rows from anywhere: each leads to its folder, files open in the viewer. */
export function FoundTable({ items, children }: { items: FoundItem[]; children?: ReactNode }) {
  const [search, setSearch] = useSearchParams();
  const { data: tags = [] } = useQuery(tagsQuery);
  const shown = search.get('show');
  const show = (id: string | null) =>
    setSearch(
      (s) => {
        if (id) s.set('show', id);
        else s.delete('show');
        return s;
      },
      { replace: true },
    );
  return (
    <>
      <table className="rows found">
        <thead>
          <tr>
            <th>Name</th>
            <th>In</th>
            <th className="number">Size</th>
            <th>Changed</th>
            <th>By</th>
          </tr>
        </thead>
        <tbody>
          {items.map((i) => (
            <tr key={i.id}>
              <td>
                <i className={`bi ${iconOf(i)} me-2`} aria-hidden />
                {i.kind === 'folder' ? (
                  <Link to={`/stores/${i.id}`}>{i.name}</Link>
                ) : (
                  <button type="button" className="link" onClick={() => show(i.id)}>
                    <bdi>{i.name}</bdi>
                  </button>
                )}
                <TagDots ids={i.tags} tags={tags} />
              </td>
              <td className="place">
                <Link to={`/stores/${i.parentId}`}>{i.path.map((p) => p.name).join(' / ')}</Link>
              </td>
              <td className="number">{i.kind === 'file' && <Size bytes={i.sizeBytes} />}</td>
              <td>
                <When at={i.changedAt} brief />
              </td>
              <td className="quiet">{i.changedBy}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {children}
      {shown && <Viewer id={shown} items={items.filter((i) => i.kind === 'file')} go={show} close={() => show(null)} />}
    </>
  );
}

function Choice({
  label,
  value,
  set,
  options,
}: {
  label: string;
  value: string;
  set: (value: string) => void;
  options: [value: string, words: string][];
}) {
  return (
    <Form.Select size="sm" aria-label={label} value={value} onChange={(e) => set(e.target.value)}>
      {options.map(([v, words]) => (
        <option key={v} value={v}>
          {words}
        </option>
      ))}
    </Form.Select>
  );
}

/** Midnight so many days ago, so that the same choice is the same search all day. */
function daysAgo(days: number): string {
  const at = new Date();
  at.setHours(0, 0, 0, 0);
  at.setDate(at.getDate() - (days - 1));
  return at.toISOString();
}
