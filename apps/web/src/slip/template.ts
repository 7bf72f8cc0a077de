import type { ShareSheet, TemplateTerms } from '@quay/contract';
import {
  MAY_DOWNLOAD,
  momentLater,
  momentLaterOf,
  movedOn,
  toLocalField,
  typedNumber,
  VISIT_LIMIT_RANGE,
  type Instant,
} from '@quay/core';
import { chosenMay, judgedMay } from '../ui/chosen-may';
import { chosenOf, type JudgedAudience } from '../ui/audience/chosen';
import { chosenWindow, type ChosenWindow } from '../ui/window-choice';
import type { useSlip } from './store';

type Slip = ReturnType<typeof useSlip.getState>;
type Part = Partial<Omit<Slip, 'put' | 'set' | 'clear'>>;

/** The choices of a slip, to be kept: all but what is shared, its title and the password itself. */
export function termsOf(slip: Slip, { asked }: JudgedAudience, now: Instant, zone: string): TemplateTerms {
  const { opensAt, closesAt } = chosenWindow(slip, now, zone);
  const later = (at: Instant | null) => (at === null ? null : momentLaterOf(at, now, zone));
  return {
    message: slip.message.trim(),
    audience: asked,
    window: slip.choice === 'custom' ? { opens: later(opensAt), closes: later(closesAt) } : { preset: slip.choice },
    password: slip.passwordChoice !== 'none',
    visitLimit: typedNumber(slip.limitField, VISIT_LIMIT_RANGE).value,
    removesFiles: slip.removesFiles,
    may: judgedMay(slip).may,
    ...(slip.place && { place: slip.place }),
  };
}

/** What the slip is with a template, from now on. @param names of members, by their ids: who is gone is left out */
export function withTemplate(
  { message, audience, window, password, visitLimit, removesFiles, may = MAY_DOWNLOAD, place }: TemplateTerms,
  names: ReadonlyMap<string, string>,
  now: Instant,
  zone: string,
): Part {
  const members = audience.members.flatMap((m) => {
    const name = names.get(m.id);
    return name === undefined ? [] : [{ ...m, name }];
  });
  return {
    ...chosenOf({ ...audience, members }),
    ...chosenMay(may),
    message,
    ...windowChosen(window, now, zone),
    ...passwordChosen(password),
    limitField: visitLimit === null ? '' : String(visitLimit),
    removesFiles,
    place: place ?? null,
  };
}

function windowChosen(window: TemplateTerms['window'], now: Instant, zone: string): ChosenWindow {
  if ('preset' in window) return { choice: window.preset, opensField: '', closesField: '' };
  const field = (later: (typeof window)['opens']) =>
    later === null ? '' : toLocalField(momentLater(later, now, zone), zone);
  return { choice: 'custom', opensField: field(window.opens), closesField: field(window.closes) };
}

const passwordChosen = (password: boolean): Part =>
  password ? { passwordChoice: 'proposed', password: '' } : { passwordChoice: 'none', password: '' };

/** A share that is to go out once more: the same items and choices, its window moved on to now. */
export function sharedAgain(share: ShareSheet, now: Instant, zone: string): Part {
  const at = (text: string | null) => (text === null ? null : Date.parse(text));
  const { opensAt, closesAt } = movedOn(
    { opensAt: at(share.opensAt), closesAt: at(share.closesAt) },
    Date.parse(share.createdAt),
    now,
    zone,
  );
  const field = (moment: Instant | null) => (moment === null ? '' : toLocalField(moment, zone));
  return {
    items: share.items
      .filter((item) => !item.gone)
      .map(({ id, name, kind, sizeBytes, frozenAt }) => ({
        ...{ id, name, kind, sizeBytes, frozen: frozenAt !== null },
        ...(kind === 'folder' && { folderId: id }),
      })),
    title: share.title,
    message: share.message,
    ...chosenOf(share.whoIsMeant),
    ...chosenMay(share.may),
    ...{ choice: 'custom', opensField: field(opensAt), closesField: field(closesAt) },
    ...passwordChosen(share.hasPassword),
    limitField: share.visitLimit === null ? '' : String(share.visitLimit),
    removesFiles: share.removesFiles,
    addressId: share.addressId,
  };
}
