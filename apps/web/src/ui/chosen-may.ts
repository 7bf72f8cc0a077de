import {
  bringsFiles,
  GIGABYTE,
  MAY_DOWNLOAD,
  TAKES_BYTES_RANGE,
  typedNumber,
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
}

const RANGE = {
  min: TAKES_BYTES_RANGE.min / GIGABYTE,
  max: TAKES_BYTES_RANGE.max / GIGABYTE,
  whole: false,
} as const;

export const chosenMay = ({ level, seesOthers, takesBytes, watermark = 'none' }: ShareMay): ChosenMay => ({
  ...{ level, seesOthers, watermark },
  takesField: String(takesBytes / GIGABYTE),
});

export const DOWNLOADS: ChosenMay = chosenMay(MAY_DOWNLOAD);

/** What is chosen, by the core's rules, and why it cannot be so; null: it can. */
export function judgedMay({ level, seesOthers, takesField, watermark }: ChosenMay): {
  may: ShareMay;
  fault: string | null;
} {
  const { value, fault } = typedNumber(takesField, RANGE);
  const takesBytes = Math.round((value ?? MAY_DOWNLOAD.takesBytes / GIGABYTE) * GIGABYTE);
  return {
    may: { level, seesOthers, takesBytes, watermark },
    fault: !bringsFiles({ level }) || !(fault ?? takesField.trim() === '') ? null : (fault ?? 'Say how much it takes.'),
  };
}
