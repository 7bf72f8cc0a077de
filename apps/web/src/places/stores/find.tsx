import { KINDS, type FindAnswer, type FindQuery, type FoundItem, type Kind } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useRef, type ReactNode } from 'react';
import { Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { useKeys } from '../../ui/keys';
import { storesQuery } from '../../ui/queries';
import { useSearch } from '../../ui/search';
import { Empty, Failure, SkeletonRows } from '../../ui/states';
import { useTyped } from '../../ui/typed';
import { Size, When } from '../../ui/words';
import { iconOf } from './icons';
import { colleaguesQuery, findQuery, tagsQuery } from './queries';
import { TagDots } from './tags';
import { Viewer } from './viewer';
import './find.scss';

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

type Query = Partial<Record<keyof FindQuery, string>>;

/** Finds items by name, tag, kind, size, date and person. The search is in the address. */
export function Find() {
  const [search, change] = useSearch();
  const query: Query = Object.fromEntries(NAMES.flatMap((n) => (search.get(n) ? [[n, search.get(n)]] : [])));
  const asked = Object.keys(query).some((k) => k !== 'inside');
  const { data, error, isFetching } = useQuery({ ...findQuery(query), enabled: asked });
  const set = (query: Query) => change(query, { replace: true });
  return (
    <>
      <div className="title-line">
        <h1>
          {titleOf(asked, data)}
          {data?.more && <span className="quiet"> Narrow it down to see the rest.</span>}
        </h1>
      </div>
      <FindForm query={query} set={set} />
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

function titleOf(asked: boolean, data: FindAnswer | undefined): string {
  if (!asked) return 'Find in all stores.';
  return data ? `${data.more ? 'More than ' : ''}${countOf(data.items.length, 'item')} found.` : 'Looking ...';
}

function FindForm({ query, set }: { query: Query; set: (change: Query) => void }) {
  const field = useRef<HTMLInputElement>(null);
  const [text, setText] = useTyped(query.text ?? '', (typed) => set({ text: typed }));
  useKeys({ '/': () => field.current?.focus() });
  return (
    <div className="find-form" role="search">
      <Form.Control
        ref={field}
        autoFocus
        aria-label="Words of the name"
        placeholder="Words of the name, or of a text inside"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <WhereChoices query={query} set={set} />
      <HowMuchChoices query={query} set={set} />
      <Form.Check
        id="inside"
        label="inside texts"
        checked={query.inside === 'true'}
        onChange={(e) => set({ inside: e.target.checked ? 'true' : '' })}
      />
    </div>
  );
}

/** In which store, of what kind, with which tag, by whom. */
function WhereChoices({ query, set }: { query: Query; set: (change: Query) => void }) {
  const { data: stores = [] } = useQuery(storesQuery);
  const { data: tags = [] } = useQuery(tagsQuery);
  const { data: colleagues = [] } = useQuery(colleaguesQuery);
  const choices: [name: 'storeId' | 'kind' | 'tagId' | 'personId', label: string, options: [string, string][]][] = [
    [
      ...(['storeId', 'Store'] as const),
      [['', 'all stores'], ...stores.map((s): Option => [s.id, s.kind === 'home' ? 'My files' : s.name])],
    ],
    ['kind', 'Kind', [['', 'any kind'], ...KINDS.map((k): Option => [k, KIND_WORDS[k]])]],
    ['tagId', 'Tag', [['', 'any tag'], ...tags.map((t): Option => [t.id, t.name])]],
    ['personId', 'Changed by', [['', 'by anybody'], ...colleagues.map((p): Option => [p.id, p.name])]],
  ];
  return choices.map(([name, label, options]) => (
    <Choice key={name} {...{ label, options }} value={query[name] ?? ''} set={(value) => set({ [name]: value })} />
  ));
}

function HowMuchChoices({ query, set }: { query: Query; set: (change: Query) => void }) {
  const { minBytes = '', maxBytes = '' } = query;
  const size = SIZES.find(([, min, max]) => minBytes === min && maxBytes === max) ?? SIZES[0];
  const age = AGES.find(([, days]) => days > 0 && query.from === daysAgo(days)) ?? AGES[0];
  const setSize = (words: string) => {
    const [, min = '', max = ''] = SIZES.find((s) => s[0] === words) ?? [];
    set({ minBytes: min, maxBytes: max });
  };
  const setAge = (words: string) => {
    const days = AGES.find((a) => a[0] === words)?.[1] ?? 0;
    set({ from: days > 0 ? daysAgo(days) : '' });
  };
  return (
    <>
      <Choice label="Size" value={size?.[0] ?? ''} set={setSize} options={SIZES.map(([words]) => [words, words])} />
      <Choice label="Changed" value={age?.[0] ?? ''} set={setAge} options={AGES.map(([words]) => [words, words])} />
    </>
  );
}

type Option = [value: string, words: string];

/** Rows from anywhere: each leads to its folder, files open in the viewer. */
export function FoundTable({ items, children }: { items: FoundItem[]; children?: ReactNode }) {
  const [search, change] = useSearch();
  const { data: tags = [] } = useQuery(tagsQuery);
  const shown = search.get('show');
  const show = (id: string | null) => change({ show: id }, { replace: true });
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
  options: Option[];
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
