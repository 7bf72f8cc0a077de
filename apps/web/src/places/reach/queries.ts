import type {
  AccountBinding,
  AddressRow,
  AddressSheet,
  AffectedLink,
  ChangeAddress,
  ExposureAnswer,
  LookoutCode,
  NameServerSettings,
  NameUpdate,
  NetworkValue,
  NewAddress,
  ReachCheck,
  ReachNetwork,
  RemedyAct,
  RemedyAnswer,
  TelephoneProof,
} from '@quay/contract';
import type { PlannedLine, Vantage, WayCompared } from '@quay/core';
import { queryOptions, useMutation } from '@tanstack/react-query';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { tellFailure } from '../../ui/notices';

const base = (id: string) => `/api/reach/addresses/${id}`;

export const addressQuery = (id: string) =>
  queryOptions({ queryKey: ['reach', 'address', id], queryFn: () => api<AddressSheet>('GET', base(id)) });
export const linksQuery = (id: string) =>
  queryOptions({ queryKey: ['reach', 'links', id], queryFn: () => api<AffectedLink[]>('GET', `${base(id)}/links`) });
export const exposureQuery = (id: string) =>
  queryOptions({
    queryKey: ['reach', 'exposure', id],
    queryFn: () => api<ExposureAnswer>('GET', `${base(id)}/exposure`),
    staleTime: 60_000,
  });
export const networkQuery = queryOptions({
  queryKey: ['reach', 'network'],
  queryFn: () => api<ReachNetwork>('GET', '/api/reach/network'),
});
export const telephoneQuery = (id: string) =>
  queryOptions({
    queryKey: ['reach', 'telephone', id],
    queryFn: () => api<{ seen: TelephoneProof['seen'] }>('GET', `${base(id)}/telephone`),
  });
export const compareQuery = (planned: PlannedLine) =>
  queryOptions({
    queryKey: ['reach-plan', planned],
    queryFn: () => api<WayCompared[]>('POST', '/api/reach/compare', planned),
    placeholderData: (before) => before,
  });

/** Whatever is done to a way in, everything that is shown of it is asked again. */
function useReachMutation<A, R>(ask: (asked: A) => Promise<R>, { inForm = false } = {}) {
  const changed = useChanged();
  return useMutation({
    mutationFn: ask,
    // A form says what was refused at its fields.
    onError: inForm ? undefined : tellFailure,
    onSettled: () => changed('reach'),
  });
}

export const useCheck = (id: string) => useReachMutation(() => api<ReachCheck>('POST', `${base(id)}/check`));
export const useRemedy = (id: string) =>
  useReachMutation(({ act, vantage }: { act: RemedyAct; vantage: Vantage }) =>
    api<RemedyAnswer>('POST', `${base(id)}/remedies/${vantage}`, { act }),
  );
export const useGuideStep = (id: string) =>
  useReachMutation((asked: { step: string; how: 'program' | 'hand' }) =>
    api<RemedyAnswer>('POST', `${base(id)}/guide`, asked),
  );
export const useTelephone = (id: string) =>
  useReachMutation(() => api<TelephoneProof>('POST', `${base(id)}/telephone`));
export const useAddAddress = () =>
  useReachMutation((asked: NewAddress) => api<AddressRow>('POST', '/api/reach/addresses', asked), { inForm: true });
export const useChangeAddress = (id: string) =>
  useReachMutation((asked: ChangeAddress) => api<AddressRow>('PATCH', base(id), asked));
export const useRemoveAddress = (id: string) => useReachMutation(() => api<undefined>('DELETE', base(id)));
export const useNameServer = () =>
  useReachMutation(
    ({ network, ...asked }: NameServerSettings & { network: 'public' | 'office' | 'guest' }) =>
      api<undefined>('PUT', `/api/reach/name-servers/${network}`, asked),
    { inForm: true },
  );
export const useBinding = () =>
  useReachMutation((asked: AccountBinding) => api<undefined>('PUT', '/api/reach/authority/binding', asked), {
    inForm: true,
  });
export const useNameUpdate = () =>
  useReachMutation((asked: NameUpdate) => api<undefined>('PUT', '/api/reach/name-update', asked), { inForm: true });
export const useForgetNameUpdate = () => useReachMutation(() => api<undefined>('DELETE', '/api/reach/name-update'));
export const useNetworkSaid = () =>
  useReachMutation(
    ({ name, value }: { name: NetworkValue; value: string[] }) =>
      api<undefined>('PUT', `/api/reach/network/${name}`, { value }),
    { inForm: true },
  );
export const useNetworkFound = () =>
  useReachMutation((name: NetworkValue) => api<undefined>('DELETE', `/api/reach/network/${name}`));
export const useLookoutCode = () => useReachMutation(() => api<LookoutCode>('POST', '/api/reach/lookouts/code'));
export const useTakeLookout = () =>
  useReachMutation((asked: { code: string }) => api<undefined>('POST', '/api/reach/lookouts', asked), {
    inForm: true,
  });
export const useForgetLookout = () =>
  useReachMutation((id: string) => api<undefined>('DELETE', `/api/reach/lookouts/${id}`));
export const useAcceptInvitation = () =>
  useReachMutation((asked: { code: string }) => api<undefined>('PUT', '/api/reach/relay', asked), { inForm: true });
export const useLeaveRelay = () => useReachMutation(() => api<undefined>('DELETE', '/api/reach/relay'));
export const useOwnCertificate = (id: string) =>
  useReachMutation((asked: { chain: string; key: string }) => api<undefined>('PUT', `${base(id)}/certificate`, asked), {
    inForm: true,
  });
export const useMoveLinks = (id: string) =>
  useReachMutation((to: string) => api<{ moved: number }>('POST', `${base(id)}/links/move`, { to }));
