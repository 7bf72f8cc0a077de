import type { BackupCopies, Health, MailSettings, OfficeSettings, StoreSettings } from '@quay/contract';
import { queryOptions } from '@tanstack/react-query';
import { api } from '../../ui/api';

export const officeQuery = queryOptions({
  queryKey: ['settings', 'office'],
  queryFn: () => api<OfficeSettings>('GET', '/api/settings/office'),
});

export const mailQuery = queryOptions({
  queryKey: ['settings', 'mail'],
  queryFn: () => api<MailSettings>('GET', '/api/settings/mail'),
});

export const storeSettingsQuery = queryOptions({
  queryKey: ['settings', 'stores'],
  queryFn: () => api<StoreSettings[]>('GET', '/api/settings/stores'),
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
