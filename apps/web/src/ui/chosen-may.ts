import {
  bringsFiles,
  givesFiles,
  GIGABYTE,
  MAY_DOWNLOAD,
  TAKES_BYTES_RANGE,
  typedNumber,
  VISIT_LIMIT_RANGE,
  type ShareLevel,
  type ShareMay,
  type Watermark,
} from '@quay/core';

/** What visitors may do, as it is chosen in a form. */
export interface ChosenMay {
  level: ShareLevel;
  seesOthers: boolean;
  /** Gigabytes that are taken in. */
  takesField: string;
  watermark: Watermark;
  /** How many visits may take each file; '': any number. */
  fileLimitField: string;
}

const RANGE = {
  min: TAKES_BYTES_RANGE.min / GIGABYTE,
  max: TAKES_BYTES_RANGE.max / GIGABYTE,
  whole: false,
} as const;

export const chosenMay = ({
  level,
  seesOthers,
  takesBytes,
  watermark = 'none',
  fileLimit = null,
}: ShareMay): ChosenMay => ({
  ...{ level, seesOthers, watermark },
  takesField: String(takesBytes / GIGABYTE),
  fileLimitField: fileLimit === null ? '' : String(fileLimit),
});

export const DOWNLOADS: ChosenMay = chosenMay(MAY_DOWNLOAD);

/** What is chosen, by the core's rules, and why it cannot be so; null: it can. */
export function judgedMay({ level, seesOthers, takesField, watermark, fileLimitField = '' }: ChosenMay): {
  may: ShareMay;
  fault: string | null;
} {
  const { value, fault } = typedNumber(takesField, RANGE);
  const takesBytes = Math.round((value ?? MAY_DOWNLOAD.takesBytes / GIGABYTE) * GIGABYTE);
  const isGiven = givesFiles({ level, seesOthers });
  const often = typedNumber(isGiven ? fileLimitField : '', VISIT_LIMIT_RANGE);
  const takesFault = fault ?? (takesField.trim() === '' ? 'Say how much it takes.' : null);
  return {
    may: { level, seesOthers, takesBytes, watermark, fileLimit: often.value },
    fault: (bringsFiles({ level }) ? takesFault : null) ?? often.fault,
  };
}
