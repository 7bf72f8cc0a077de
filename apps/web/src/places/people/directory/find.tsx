import type { DirectoryFound, DirectorySettings } from '@quay/contract';
import { countOf, dnKey, isWithin, lastName } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { useSearch } from '../../../ui/search';
import { Empty, Failure, SkeletonRows } from '../../../ui/states';
import { useTyped } from '../../../ui/typed';
import { directoryFindQuery } from '../queries';
import { useDirectoryVerbs } from './verbs';

interface FindProps {
  settings: DirectorySettings;
  /** They may say which branches are followed. */
  mayFollow: boolean;
}

/** Entries by a word, or branch by branch; some are chosen, or a branch is followed. Where one is stands in the address. */
export function FindEntries({ settings, mayFollow }: FindProps) {
  const [params, change] = useSearch();
  const [words, setWords] = useTyped(params.get('entry') ?? '', (text) =>
    change({ entry: text.trim() }, { replace: true }),
  );
  const asked = params.get('entry') ?? '';
  const under = params.get('under') ?? settings.base;
  const { data, error, refetch } = useQuery(directoryFindQuery({ words: asked, under: asked === '' ? under : null }));
  const [chosen, setChosen] = useState<ReadonlyMap<string, string>>(new Map());
  return (
    <section aria-labelledby="directory-find">
      <h2 className="small-head" id="directory-find">
        Who is in it
      </h2>
      <div className="directory-find">
        <Form.Control
          type="search"
          size="sm"
          aria-label="Find in the directory"
          placeholder="Name, mail or sign-in name"
          maxLength={100}
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
        <Chosen chosen={chosen} clear={() => setChosen(new Map())} />
      </div>
      {asked === '' && <Path {...{ settings, under, mayFollow }} go={(to) => change({ under: to })} />}
      {error && <Failure error={error} again={() => void refetch()} />}
      {!data && !error && <SkeletonRows count={4} />}
      {data && (
        <Found
          found={data.found}
          chosen={chosen}
          choose={(entry, on) => setChosen(withEntry(chosen, entry, on))}
          go={(to) => change({ under: to, entry: '' })}
        />
      )}
      {data?.more && <p className="quiet">There are more. Type more of the name.</p>}
    </section>
  );
}

function withEntry(chosen: ReadonlyMap<string, string>, { entryId, name }: DirectoryFound, on: boolean) {
  const next = new Map(chosen);
  if (on && entryId) next.set(entryId, name);
  else if (entryId) next.delete(entryId);
  return next;
}

function Chosen({ chosen, clear }: { chosen: ReadonlyMap<string, string>; clear: () => void }) {
  const { look } = useDirectoryVerbs();
  if (chosen.size === 0) return null;
  return (
    <Button
      size="sm"
      disabled={look.isPending}
      onClick={() => look.mutate({ chosen: [...chosen.keys()], taken: [] }, { onSuccess: clear })}
    >
      See what taking in {chosen.size === 1 ? [...chosen.values()][0] : countOf(chosen.size, 'entry', 'entries')}{' '}
      changes
    </Button>
  );
}

/** From the base down to where one is, and whether that is followed. */
function Path({ settings, under, mayFollow, go }: FindProps & { under: string; go: (dn: string) => void }) {
  const { follow } = useDirectoryVerbs();
  const key = dnKey(under) ?? '';
  const by = settings.branches.find((b) => isWithin(key, dnKey(b) ?? ' '));
  const isOne = by !== undefined && dnKey(by) === key;
  const keep = (branches: string[]) => follow.mutate({ ...settings, bindPassword: null, branches });
  return (
    <div className="directory-path">
      <nav aria-label="Where in the directory">
        {stepsTo(settings.base, under).map((dn, n) => (
          <span key={dn}>
            {n > 0 && <span aria-hidden> / </span>}
            <button type="button" className="link" onClick={() => go(dn)}>
              {n === 0 ? settings.base || 'the root' : lastName(dn)}
            </button>
          </span>
        ))}
      </nav>
      <span className="quiet">{by && (isOne ? 'followed' : `followed with ${lastName(by)}`)}</span>
      {mayFollow && (isOne || !by) && (
        <Button
          size="sm"
          variant="plain"
          disabled={follow.isPending}
          onClick={() => keep(isOne ? settings.branches.filter((b) => b !== by) : [...settings.branches, under])}
        >
          {isOne ? 'Follow this branch no more' : 'Follow this branch'}
        </Button>
      )}
    </div>
  );
}

/** The branches from the base to one below it. */
function stepsTo(base: string, under: string): string[] {
  const steps = [under];
  const baseKey = dnKey(base) ?? '';
  for (let dn = under; dnKey(dn) !== baseKey && steps.length < 20;) {
    const comma = /(?<!\\),/.exec(dn);
    if (!comma) break;
    dn = dn.slice(comma.index + 1).trim();
    steps.unshift(dn);
  }
  return steps;
}

const KINDS = { person: 'person', group: 'group', branch: 'branch' } as const;

function Found({
  found,
  chosen,
  choose,
  go,
}: {
  found: DirectoryFound[];
  chosen: ReadonlyMap<string, string>;
  choose: (entry: DirectoryFound, on: boolean) => void;
  go: (dn: string) => void;
}) {
  if (found.length === 0) return <Empty>Nothing is found there.</Empty>;
  return (
    <table className="rows">
      <thead>
        <tr>
          <th>
            <span className="visually-hidden">Choose</span>
          </th>
          <th>Name</th>
          <th>What</th>
          <th>More</th>
        </tr>
      </thead>
      <tbody>
        {found.map((entry) => (
          <tr key={entry.dn}>
            <td>
              {entry.kind !== 'branch' && entry.state === 'free' && (
                <Form.Check
                  aria-label={`Choose ${entry.name}`}
                  checked={chosen.has(entry.entryId ?? '')}
                  onChange={(e) => choose(entry, e.target.checked)}
                />
              )}
            </td>
            <td className="first" title={entry.dn}>
              {entry.kind === 'branch' ? (
                <button type="button" className="link fw-semibold" onClick={() => go(entry.dn)}>
                  {entry.name}
                </button>
              ) : (
                <span className="fw-semibold">{entry.name}</span>
              )}
            </td>
            <td className="quiet">{KINDS[entry.kind]}</td>
            <td className="quiet">
              {[entry.more, entry.state === 'here' ? 'here already' : '', entry.words].filter(Boolean).join('; ')}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
