import type { AudienceAsked, ShareAudience } from '@quay/contract';
import {
  ANYONE,
  AUDIENCE_FAULT_WORDS,
  audienceFault,
  countOf,
  listedText,
  type AudienceKind,
  type AudienceTerms,
} from '@quay/core';
import type { ReadList } from '@quay/core/recipients';
import { useEffect, useState } from 'react';

/** Whom a share is for, as it is being chosen and typed. */
export interface ChosenAudience {
  audience: AudienceKind;
  listText: string;
  blockText: string;
  members: ShareAudience['members'];
}

export const FOR_ANYONE: ChosenAudience = { audience: 'anyone', listText: '', blockText: '', members: [] };

export const chosenOf = ({ kind, listed, blocked, members }: ShareAudience): ChosenAudience => ({
  ...{ audience: kind, members },
  listText: listed.join('\n'),
  blockText: blocked.join('\n'),
});

export interface JudgedAudience {
  asked: AudienceAsked;
  terms: AudienceTerms;
  /** What was understood of the lists; null while they are read. */
  lists: { listed: ReadList; blocked: ReadList } | null;
  /** What must be mended first; null: nothing. */
  fault: string | null;
}

/** What is understood of a list; null while it is read. Reading takes tables of all scripts: they come when needed. */
export function useReadList(text: string): ReadList | null {
  const [read, setRead] = useState<{ of: string; list: ReadList } | null>(null);
  useEffect(() => {
    let current = true;
    void import('@quay/core/recipients').then(({ readList }) => {
      if (current) setRead({ of: text, list: readList(text) });
    });
    return () => {
      current = false;
    };
  }, [text]);
  return read?.of === text ? read.list : null;
}

const EMPTY: ReadList = { listed: [], faults: [], twice: 0 };

/** What is chosen, judged by the core's rules. Reading lists takes tables of all scripts: they come when needed. */
export function useJudgedAudience({ audience, listText, blockText, members }: ChosenAudience): JudgedAudience {
  const [read, setRead] = useState<{ of: string; listed: ReadList; blocked: ReadList } | null>(null);
  const hasLists = audience === 'listed' || audience === 'verified';
  const of = hasLists ? `${listText}\0${blockText}` : '';
  useEffect(() => {
    if (!hasLists) return;
    let current = true;
    void import('@quay/core/recipients').then(({ readList }) => {
      if (current) setRead({ of, listed: readList(listText), blocked: readList(blockText) });
    });
    return () => {
      current = false;
    };
  }, [hasLists, of, listText, blockText]);
  const lists = !hasLists ? { listed: EMPTY, blocked: EMPTY } : read?.of === of ? read : null;
  const listed = audience === 'listed' ? (lists?.listed.listed ?? []).map(listedText) : [];
  return {
    asked: {
      ...{ kind: audience, listed, blocked: (lists?.blocked.listed ?? []).map(listedText) },
      members: audience === 'members' ? members.map(({ kind, id }) => ({ kind, id })) : [],
    },
    terms: { ...ANYONE, kind: audience, listed: listed.length, members: members.map((m) => m.name) },
    lists,
    fault: faultOf(audience, lists, members.length),
  };
}

function faultOf(audience: AudienceKind, lists: JudgedAudience['lists'], members: number): string | null {
  if (!lists) return 'The list is being read.';
  const faults = lists.listed.faults.length * Number(audience === 'listed') + lists.blocked.faults.length;
  if (faults > 0) return `${countOf(faults, 'entry of the list is', 'entries of the list are')} not understood.`;
  const fault = audienceFault(audience, { listed: lists.listed.listed.length, members });
  return fault && AUDIENCE_FAULT_WORDS[fault];
}
