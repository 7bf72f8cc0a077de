import type {
  About,
  BackupCopies,
  GuardrailsKept,
  Health,
  LogoPicture,
  MailReturnsSettings,
  MailSettings,
  OfficeSettings,
  Provider,
  SecuritySettings,
  ShareRules,
  WouldDo,
  StoreSettings,
  TextGatewaySettings,
} from '@quay/contract';
import { queryOptions } from '@tanstack/react-query';
import { api } from '../../ui/api';

export const officeQuery = queryOptions({
  queryKey: ['settings', 'office'],
  queryFn: () => api<OfficeSettings>('GET', '/api/settings/office'),
});

export const logoQuery = queryOptions({
  queryKey: ['settings', 'logo'],
  queryFn: () => api<LogoPicture>('GET', '/api/settings/logo'),
});

export const providerQuery = queryOptions({
  queryKey: ['settings', 'provider'],
  queryFn: () => api<Provider>('GET', '/api/settings/provider'),
});

export const mailQuery = queryOptions({
  queryKey: ['settings', 'mail'],
  queryFn: () => api<MailSettings>('GET', '/api/settings/mail'),
});

export const mailReturnsQuery = queryOptions({
  queryKey: ['settings', 'mail-returns'],
  queryFn: () => api<MailReturnsSettings>('GET', '/api/settings/mail-returns'),
});

export const textGatewayQuery = queryOptions({
  queryKey: ['settings', 'text-messages'],
  queryFn: () => api<TextGatewaySettings>('GET', '/api/settings/text-messages'),
});

export const shareRulesQuery = queryOptions({
  queryKey: ['settings', 'shares'],
  queryFn: () => api<ShareRules>('GET', '/api/settings/shares'),
});

export const guardrailsQuery = queryOptions({
  queryKey: ['settings', 'guardrails'],
  queryFn: () => api<GuardrailsKept>('GET', '/api/guardrails'),
});

export const storeSettingsQuery = queryOptions({
  queryKey: ['settings', 'stores'],
  queryFn: () => api<StoreSettings[]>('GET', '/api/settings/stores'),
});

/** Asked when somebody is about to do it. */
export const archiveWouldDoQuery = (storeId: string) =>
  queryOptions({
    queryKey: ['settings', 'stores', storeId, 'archive'],
    queryFn: () => api<WouldDo>('GET', `/api/settings/stores/${storeId}/archive`),
    staleTime: 0,
  });

export const backupCopiesQuery = (id: string) =>
  queryOptions({
    queryKey: ['backups', 'copies', id],
    queryFn: () => api<BackupCopies>('GET', `/api/backups/${id}/copies`),
  });

/** Looked at anew each time somebody comes: what it says is of that moment. */
export const healthQuery = queryOptions({
  queryKey: ['settings', 'health'],
  queryFn: () => api<Health>('GET', '/api/health'),
  staleTime: 0,
});

export const securityQuery = queryOptions({
  queryKey: ['settings', 'security'],
  queryFn: () => api<SecuritySettings>('GET', '/api/settings/security'),
});

export const securityWouldDoQuery = (asked: SecuritySettings) =>
  queryOptions({
    queryKey: ['settings', 'security', 'would-do', asked],
    queryFn: () => api<WouldDo>('POST', '/api/settings/security/would-do', asked),
    staleTime: 0,
  });

export const aboutQuery = queryOptions({
  queryKey: ['settings', 'about'],
  queryFn: () => api<About>('GET', '/api/settings/about'),
});
