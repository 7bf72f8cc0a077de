import { createIntakeSchema, type CreateIntake, type GuardrailsFor, type IntakeSheet } from '@quay/contract';
import {
  GIGABYTE,
  INTAKE_RANGES,
  intakeRailFaults,
  REMIND_DAYS,
  typedNumber,
  type AudienceKind,
  type IntakeLimits,
  type RailFault,
  type StraightIn,
} from '@quay/core';
import { chosenOf, type JudgedAudience } from '../../ui/audience/chosen';
import { wordsOf } from '../../ui/form';
import { chosenWindow, windowText } from '../../ui/window-choice';
import { NEW_INTAKE, type IntakeFields } from '../../ui/intake-draft';

/** What was typed, as it is asked of the server; and what is wrong with it, by the field of the request. */
export interface Meant {
  asked: Omit<CreateIntake, 'folderId'>;
  faults: Record<string, string>;
}

const RANGES = {
  fileBytes: { ...INTAKE_RANGES.fileBytes, unit: GIGABYTE },
  files: { ...INTAKE_RANGES.files, unit: 1 },
  contributorBytes: { ...INTAKE_RANGES.contributorBytes, unit: GIGABYTE },
  allBytes: { ...INTAKE_RANGES.allBytes, unit: GIGABYTE },
} as const;

/** @param now by the server's clock */
export function meantBy(fields: IntakeFields, judged: JudgedAudience, now: number, zone: string): Meant {
  const faults: Record<string, string> = {};
  if (judged.fault !== null) faults['audience'] = judged.fault;
  const number = (key: keyof typeof RANGES, typed: string): number => {
    const { min, max, unit } = RANGES[key];
    const { value, fault } = typedNumber(typed, { min: min / unit, max: max / unit, whole: unit === 1 });
    if (fault !== null || value === null) faults[`limits.${key}`] = fault ?? 'This is needed.';
    return Math.round((value ?? min / unit) * unit);
  };
  const limits: IntakeLimits = {
    fileBytes: number('fileBytes', fields.fileField),
    files: number('files', fields.filesField),
    contributorBytes: number('contributorBytes', fields.eachField),
    allBytes: number('allBytes', fields.allField),
    kinds: fields.kinds,
  };
  const asked: Omit<CreateIntake, 'folderId'> = {
    ...{ title: fields.title, message: fields.message, waits: fields.waits, receiptByMail: fields.receiptByMail },
    window: windowText(chosenWindow(fields, now, zone)),
    password: fields.passwordChoice === 'none' || fields.passwordChoice === 'kept' ? null : fields.password,
    weakPasswordMeant: fields.weakMeant,
    straight: straightOf(fields, faults),
    folderPattern: fields.hasFolders ? fields.folderPattern : null,
    limits,
    audience: judged.asked,
    ...(fields.addressId !== '' && { addressId: fields.addressId }),
    remindDays: remindDaysOf(fields, faults),
    questions: { name: fields.name, mail: fields.mail, firm: fields.firm, own: fields.own },
  };
  const checked = createIntakeSchema.validate(
    { ...asked, folderId: '00000000-0000-4000-8000-000000000000' },
    { abortEarly: false, errors: { wrap: { label: false } } },
  );
  for (const { path, message } of checked.error?.details ?? []) faults[path.join('.')] ??= wordsOf(message);
  return { asked, faults };
}

/** Null: everything, or nothing. */
function straightOf(fields: IntakeFields, faults: Record<string, string>): StraightIn | null {
  if (fields.waits || !fields.straightSome) return null;
  const { min, max } = INTAKE_RANGES.fileBytes;
  const { value, fault } = typedNumber(fields.straightField, {
    min: min / MEGABYTE,
    max: max / MEGABYTE,
    whole: false,
  });
  if (fault !== null) faults['straight.fileBytes'] = fault;
  return {
    kinds: fields.straightKinds,
    fileBytes: value === null ? null : Math.round(value * MEGABYTE),
    provenOnly: fields.provenOnly && fields.audience !== 'anyone',
  };
}

const MEGABYTE = 1e6;

interface RailFacts {
  /** When it was made; null: it is being made. */
  madeAt: number | null;
  now: number;
  zone: string;
  addressId: string;
  /** Of its folder, once they are known. */
  rails: GuardrailsFor | undefined;
}

/** Guardrails that it does not keep to as it is typed. How easily a password is guessed, the server says. */
export function railsBroken(
  fields: IntakeFields,
  judged: JudgedAudience,
  { madeAt, now, zone, addressId, rails }: RailFacts,
): RailFault[] {
  return intakeRailFaults(
    {
      ...{ window: chosenWindow(fields, now, zone), madeAt: madeAt ?? now, passwordScore: null, addressId },
      ...{ hasPassword: fields.passwordChoice !== 'none', audience: fields.audience },
      listed: judged.lists?.listed.listed ?? [],
      publisherHasFactor: rails?.hasFactor ?? true,
    },
    rails?.guardrails ?? [],
    zone,
  );
}

/** Null: nobody is reminded, or nobody is asked by name. */
function remindDaysOf(fields: IntakeFields, faults: Record<string, string>): number | null {
  if (!fields.reminds || !isByName(fields.audience)) return null;
  const { value, fault } = typedNumber(fields.remindField, { ...REMIND_DAYS, whole: true });
  if (fault !== null || value === null) faults['remindDays'] = fault ?? 'This is needed.';
  return value;
}

/** Those who may hand in are known by name, so that it can be said who has not. */
export const isByName = (audience: AudienceKind): boolean => audience === 'listed' || audience === 'members';

/** An intake that is there, as it would have been typed. */
export function fieldsOf(intake: IntakeSheet, local: (at: string | null) => string): IntakeFields {
  const { limits, questions } = intake;
  const gigabytes = (bytes: number) => String(bytes / GIGABYTE);
  return {
    ...NEW_INTAKE,
    ...{ title: intake.title, message: intake.message, waits: intake.waits, receiptByMail: intake.receiptByMail },
    ...{ choice: 'custom', opensField: local(intake.opensAt), closesField: local(intake.closesAt) },
    passwordChoice: intake.hasPassword ? 'kept' : 'none',
    ...chosenOf(intake.who),
    addressId: intake.addressId,
    ...(intake.straight && {
      ...{ straightSome: true, straightKinds: intake.straight.kinds, provenOnly: intake.straight.provenOnly },
      straightField: intake.straight.fileBytes === null ? '' : String(intake.straight.fileBytes / MEGABYTE),
    }),
    ...{ reminds: intake.remindDays !== null, remindField: String(intake.remindDays ?? NEW_INTAKE.remindField) },
    hasFolders: intake.folderPattern !== null,
    folderPattern: intake.folderPattern ?? NEW_INTAKE.folderPattern,
    ...{ fileField: gigabytes(limits.fileBytes), filesField: String(limits.files), kinds: limits.kinds },
    ...{ eachField: gigabytes(limits.contributorBytes), allField: gigabytes(limits.allBytes) },
    ...{ name: questions.name, mail: questions.mail, firm: questions.firm, own: questions.own },
  };
}
