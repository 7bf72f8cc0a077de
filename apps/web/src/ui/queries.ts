import type {
  HandOverFinding,
  KnownRecipient,
  AddressRow,
  Backups,
  CalendarLink,
  ChangeShare,
  FilesStay,
  GuardrailsFor,
  IntakeList,
  LedgerPage,
  NodeShares,
  Outgoing,
  People,
  ShareList,
  ShareListQuery,
  ShareListView,
  ShareRow,
  CameOfIt,
  ShareSheet,
  SharesToday,
  SharesUsing,
  SlipTemplate,
  SignInWays,
  StoreSummary,
  TidyPreview,
} from '@quay/contract';
import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  useMutation,
  useQueryClient,
} from '@tanstack/react-query';
import { api } from './api';
import { useChanged } from './changed';
import { tellFailure, useNotices } from './notices';

/** Queries that several places ask: what is offered where people sign in. */
export const signInWaysQuery = queryOptions({
  queryKey: ['sign-in'],
  queryFn: () => api<SignInWays>('GET', '/api/sign-in'),
});

export type SharesAsked = Pick<ShareListQuery, 'state' | 'facet' | 'find' | 'sort' | 'descending'>;
const sharesPath = (asked: Partial<ShareListQuery>) => {
  const given = Object.entries(asked).filter(([, value]) => value !== undefined && value !== '');
  return `/api/shares?${new URLSearchParams(given.map(([key, value]) => [key, String(value)])).toString()}`;
};

export const sharesQuery = (asked: SharesAsked) =>
  infiniteQueryOptions({
    queryKey: ['shares', 'list', asked],
    queryFn: ({ pageParam }) => api<ShareList>('GET', sharesPath({ ...asked, after: pageParam })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
/** The few newest shares whose title or publisher is meant by some words. */
export const sharesNamedQuery = (find: string) =>
  queryOptions({
    queryKey: ['shares', 'named', find],
    queryFn: () => api<ShareList>('GET', sharesPath({ find, limit: 8 })),
    placeholderData: keepPreviousData,
  });
/** What is told of shares on Today; asked again each minute, because windows end by themselves. */
export const sharesTodayQuery = (from: number, to: number) =>
  queryOptions({
    queryKey: ['shares', 'today', from, to],
    queryFn: () =>
      api<SharesToday>(
        'GET',
        `/api/shares/today?from=${new Date(from).toISOString()}&to=${new Date(to).toISOString()}`,
      ),
    refetchInterval: 60_000,
  });
export const storesQuery = queryOptions({
  queryKey: ['stores'],
  queryFn: () => api<StoreSummary[]>('GET', '/api/stores'),
});
export const shareQuery = (id: string) =>
  queryOptions({ queryKey: ['share', id], queryFn: () => api<ShareSheet>('GET', `/api/shares/${id}`) });
export const cameOfItQuery = (id: string) =>
  queryOptions({ queryKey: ['share', id, 'came'], queryFn: () => api<CameOfIt>('GET', `/api/shares/${id}/came`) });
/** The shares that could be opened and hold these items, by item. */
export const guardrailsForQuery = (nodeIds: string[]) =>
  queryOptions({
    queryKey: ['guardrails', nodeIds],
    queryFn: () => api<GuardrailsFor>('POST', '/api/guardrails/for', { nodeIds }),
  });

export const sharesUsingQuery = (nodeIds: string[]) =>
  queryOptions({
    queryKey: ['marks', 'using', ...nodeIds],
    queryFn: () => api<SharesUsing>('POST', '/api/shares/using', { nodeIds }),
    placeholderData: keepPreviousData,
  });
/** Which files stay when a share of them closes, because another needs them. */
export const filesStayQuery = (nodeIds: string[], exceptShareId: string | undefined) =>
  queryOptions({
    queryKey: ['marks', 'stays', exceptShareId, ...nodeIds],
    queryFn: () => api<FilesStay>('POST', '/api/shares/stays', { nodeIds, exceptShareId }),
  });
export const calendarQuery = queryOptions({
  queryKey: ['calendar'],
  queryFn: () => api<CalendarLink>('GET', '/api/calendar'),
});
export const shareListViewQuery = queryOptions({
  queryKey: ['left', 'share-list-view'],
  queryFn: () => api<ShareListView>('GET', '/api/shares/view'),
});
export const tidyQuery = queryOptions({
  queryKey: ['shares', 'tidy'],
  queryFn: () => api<TidyPreview>('GET', '/api/shares/tidy'),
});
export const needingHandOversQuery = queryOptions({
  queryKey: ['hand-overs', 'needing'],
  queryFn: () => api<HandOverFinding[]>('GET', '/api/hand-overs/needing'),
});
export const knownRecipientsQuery = queryOptions({
  queryKey: ['shares', 'recipients'],
  queryFn: () => api<KnownRecipient[]>('GET', '/api/shares/recipients'),
});
export const visitorLanguagesQuery = queryOptions({
  queryKey: ['settings', 'visitor-languages'],
  queryFn: () => api<{ languages: string[] }>('GET', '/api/visitor-page/languages'),
});
export const templatesQuery = queryOptions({
  queryKey: ['templates'],
  queryFn: () => api<SlipTemplate[]>('GET', '/api/templates'),
});
/** What there is room for where files go that are dropped on the slip. */
export const outgoingQuery = queryOptions({
  queryKey: ['sizes', 'outgoing'],
  queryFn: () => api<Outgoing>('GET', '/api/outgoing'),
});
export const ledgerQuery = (limit: number) =>
  queryOptions({
    queryKey: ['ledger', 'last', limit],
    queryFn: () => api<LedgerPage>('GET', `/api/ledger?limit=${limit}`),
  });

/** Intakes that somebody sees. */
export const intakesQuery = queryOptions({
  queryKey: ['intakes', 'list'],
  queryFn: () => api<IntakeList>('GET', '/api/intakes'),
});

export const addressesQuery = queryOptions({
  queryKey: ['reach', 'addresses'],
  queryFn: () => api<AddressRow[]>('GET', '/api/reach/addresses'),
});

/** Changes a share, and puts the answer where every place reads it. */
export function useChangeShare() {
  const client = useQueryClient();
  const changed = useChanged();
  return useMutation({
    mutationFn: ({ id, change }: { id: string; change: ChangeShare }) =>
      api<ShareSheet | ShareRow>('PATCH', `/api/shares/${id}`, change),
    onSuccess: (sheet) => {
      // Of a share from somebody's home only its row is told.
      if ('sentence' in sheet) client.setQueryData(shareQuery(sheet.id).queryKey, sheet);
      changed('shares');
    },
  });
}

/**
 * Changes a share, says so, and offers the way back. It does so also when the row that asked is no longer shown.
 * @returns a function of the share's id, what is asked, what it was before (null: no way back is offered) and the words
 */
export function useUndoableChange(): (
  id: string,
  asked: ChangeShare,
  before: ChangeShare | null,
  words: string,
) => Promise<void> {
  const { mutateAsync } = useChangeShare();
  return (id, asked, before, words) =>
    mutateAsync({ id, change: asked }).then(
      () =>
        useNotices
          .getState()
          .show(words, before ? { undo: () => void mutateAsync({ id, change: before }).catch(tellFailure) } : {}),
      tellFailure,
    );
}

export const backupsQuery = queryOptions({
  queryKey: ['backups'],
  queryFn: () => api<Backups>('GET', '/api/backups'),
});

/** Shares that publish an item, by itself or with a folder above it. */
export const sharesOfQuery = (id: string) =>
  queryOptions({ queryKey: ['marks', 'of', id], queryFn: () => api<NodeShares>('GET', `/api/shares/of/${id}`) });

/** Every account, every group, every set of duties; for those who look after people. */
export const peopleQuery = queryOptions({
  queryKey: ['people', 'list'],
  queryFn: () => api<People>('GET', '/api/people'),
});
