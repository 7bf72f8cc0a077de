import {
  clockTime,
  dayInWords,
  distanceInWords,
  formatExactBytes,
  formatSize,
  momentInWords,
  zoneName,
  type SentencePart,
} from '@quay/core';
import { now, useZone } from './session';

/** A size in decimal units; the exact bytes on hover. */
export function Size({ bytes }: { bytes: number }) {
  return <span title={formatExactBytes(bytes)}>{formatSize(bytes)}</span>;
}

/** A moment in words, in the office's zone; the zone on hover. Times of today leave the day out. */
export function When({ at, brief = false }: { at: string; brief?: boolean }) {
  const zone = useZone();
  const time = Date.parse(at);
  const present = now();
  const today = dayInWords(time, present, zone) === dayInWords(present, present, zone);
  const words = today
    ? `today ${clockTime(time, zone)}`
    : brief
      ? dayInWords(time, present, zone)
      : momentInWords(time, present, zone);
  return (
    <time
      dateTime={at}
      title={`${momentInWords(time, present, zone)} ${zoneName(time, zone)}, ${distanceInWords(time, present)}`}
    >
      {words}
    </time>
  );
}

/** A sentence whose decisions stand out. */
export function Sentence({ parts }: { parts: SentencePart[] }) {
  return (
    <p className="sentence mb-2">
      {parts.map((p, i) => (p.strong ? <strong key={i}>{p.text}</strong> : <span key={i}>{p.text}</span>))}
    </p>
  );
}

/** The head of a column whose purpose is plain to see: its name is only read out. */
export function HiddenHead({ children }: { children: string }) {
  return (
    <th>
      <span className="visually-hidden">{children}</span>
    </th>
  );
}
