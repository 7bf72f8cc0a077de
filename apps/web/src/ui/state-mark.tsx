import { STATE_WORDS, type ShareState } from '@quay/core';
import './state-mark.scss';

/** The mark of a state: a shape and a colour, the same everywhere. Alone it bears its word as a label. */
export function StateMark({
  state,
  size = 12,
  labelled = true,
}: {
  state: ShareState;
  size?: number;
  labelled?: boolean;
}) {
  const label = labelled ? { role: 'img', 'aria-label': STATE_WORDS[state] } : { 'aria-hidden': true };
  return (
    <svg className={`state-mark state-${state}`} width={size} height={size} viewBox="0 0 16 16" {...label}>
      {labelled && <title>{STATE_WORDS[state]}</title>}
      <StateShape state={state} />
    </svg>
  );
}

/** The shape alone, in a field of 16 by 16, for use inside a drawing. */
export function StateShape({ state }: { state: ShareState }) {
  const ring = <circle cx="8" cy="8" r="6.4" fill="none" stroke="currentColor" strokeWidth="2" />;
  switch (state) {
    case 'open':
      return <circle cx="8" cy="8" r="7.4" fill="currentColor" />;
    case 'scheduled':
      return (
        <>
          {ring}
          <path d="M8 1.600a6.400 6.400 0 0 0 0 12.800z" fill="currentColor" />
        </>
      );
    case 'closed':
      return ring;
    case 'usedUp':
      return (
        <>
          {ring}
          <path d="M4.500 8h7" stroke="currentColor" strokeWidth="2.200" />
        </>
      );
    case 'withdrawn':
      return (
        <>
          {ring}
          <path d="M3.800 12.200 12.200 3.800" stroke="currentColor" strokeWidth="2" />
        </>
      );
    case 'broken':
      return <path d="M11.600 2.700A6.400 6.400 0 1 1 4.400 2.700" fill="none" stroke="currentColor" strokeWidth="2" />;
  }
}
