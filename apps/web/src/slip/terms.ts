import type { CreateShare, GuardrailsFor } from '@quay/contract';
import {
  frozenTerms,
  guardrailFaults,
  NO_END_WORDS,
  nowhereToAdd,
  PASSWORD_LENGTH,
  typedNumber,
  VISIT_LIMIT_RANGE,
  WINDOW_FAULT_WORDS,
  windowFault,
  type RailFault,
  type ShareTerms,
  type Window,
} from '@quay/core';
import { judgedMay } from '../ui/chosen-may';
import type { JudgedAudience } from '../ui/audience/chosen';
import type { Sizes } from '../ui/sizes';
import { chosenWindow, windowText } from '../ui/window-choice';
import type { useSlip } from './store';

type Slip = ReturnType<typeof useSlip.getState>;

export interface SlipTerms {
  window: Window;
  terms: ShareTerms;
  /** What must be mended before it can be published, by field. */
  faults: Partial<Record<'title' | 'window' | 'audience' | 'may' | 'password' | 'limit' | 'files', string>>;
  /** Guardrails that it does not keep to. */
  railFaults: RailFault[];
}

interface SlipFacts {
  now: number;
  zone: string;
  sizes: Sizes;
  /** The guardrails for what is on it, once they are known. */
  rails?: GuardrailsFor | undefined;
  /** How hard a typed password is to guess. */
  passwordScore?: number | null;
  /** Of the address that its link is built on. */
  addressId?: string;
}

/** What the slip means at this moment, by the core's rules. */
export function slipTerms(
  slip: Slip,
  judged: JudgedAudience,
  { now, zone, sizes, rails, passwordScore = null, addressId = '' }: SlipFacts,
): SlipTerms {
  const window = chosenWindow(slip, now, zone);
  const limit = typedNumber(slip.limitField, VISIT_LIMIT_RANGE);
  const faults: SlipTerms['faults'] = {};
  const fault = windowFault(window, now);
  if (fault) faults.window = WINDOW_FAULT_WORDS[fault];
  if (slip.title.trim() === '') faults.title = 'A title is needed: the recipient sees it.';
  if (judged.fault) faults.audience = judged.fault;
  const may = judgedMay(slip);
  const items = slip.items.map(({ kind, frozen = false }) => ({ kind, frozen }));
  const nowhere = may.fault ?? nowhereToAdd(may.may, items);
  if (nowhere) faults.may = nowhere;
  if (limit.fault) faults.limit = `${limit.fault} Leave it empty for no limit.`;
  if (slip.removesFiles && window.closesAt === null) faults.files = NO_END_WORDS;
  if (slip.passwordChoice === 'typed' && slip.password.length < PASSWORD_LENGTH.min)
    faults.password = `At least ${PASSWORD_LENGTH.min} characters.`;
  const railFaults = guardrailFaults(
    {
      ...{ window, madeAt: now, passwordScore, audience: slip.audience, level: slip.level, visitLimit: limit.value },
      ...{ addressId, watermark: slip.watermark },
      hasPassword: slip.passwordChoice !== 'none',
      listed: judged.lists?.listed.listed ?? [],
      publisherHasFactor: rails?.hasFactor ?? true,
    },
    rails?.guardrails ?? [],
    zone,
  );
  return {
    window,
    faults,
    railFaults,
    terms: {
      audience: judged.terms,
      may: may.may,
      itemCount: slip.items.length,
      frozen: frozenTerms(slip.items.map((i) => (i.frozen ? now : null))),
      totalBytes: slip.items.reduce((sum, i) => sum + (sizes.get(i.id) ?? i.sizeBytes), 0),
      window,
      hasPassword: slip.passwordChoice !== 'none',
      visitLimit: limit.value,
      removesFiles: slip.removesFiles,
    },
  };
}

export function shareAsked(slip: Slip, { asked }: JudgedAudience, { window, terms }: SlipTerms): CreateShare {
  return {
    title: slip.title.trim(),
    message: slip.message.trim(),
    nodeIds: slip.items.filter((i) => !i.frozen).map((i) => i.id),
    frozenIds: slip.items.filter((i) => i.frozen).map((i) => i.id),
    ...(slip.addressId && { addressId: slip.addressId }),
    window: windowText(window),
    audience: asked,
    may: terms.may,
    password: slip.passwordChoice === 'none' ? null : slip.password,
    weakPasswordMeant: slip.weakPasswordMeant,
    visitLimit: terms.visitLimit,
    removesFiles: slip.removesFiles,
  };
}
