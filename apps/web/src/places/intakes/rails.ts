import type { RailFault } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useAddress } from '../../ui/address-field';
import type { JudgedAudience } from '../../ui/audience/chosen';
import type { IntakeFields } from '../../ui/intake-draft';
import { guardrailsForQuery } from '../../ui/queries';
import { useNow, useZone } from '../../ui/session';
import { railsBroken } from './asked';

/** @param madeAt null: it is being made */
export function useRailsBroken(
  fields: IntakeFields,
  judged: JudgedAudience,
  { folderId, madeAt }: { folderId: string | null; madeAt: number | null },
): RailFault[] {
  const [now, zone] = [useNow(), useZone()];
  const addressId = useAddress(fields.addressId)?.id ?? '';
  const { data: rails } = useQuery({
    ...guardrailsForQuery(folderId === null ? [] : [folderId]),
    enabled: folderId !== null,
  });
  return railsBroken(fields, judged, { madeAt, now, zone, addressId, rails });
}

/** What the server refused, without what the rules say already where it stands. */
export const besides = (refused: Record<string, string>, rails: readonly RailFault[]): Record<string, string> =>
  Object.fromEntries(Object.entries(refused).filter(([, words]) => !rails.some((r) => r.words === words)));
