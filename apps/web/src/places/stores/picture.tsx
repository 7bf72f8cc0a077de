import { useEffect, useState, type ReactNode } from 'react';

const FIRST_WAIT_MS = 500;
const TRIES = 12;

/**
 * A picture that the server may still be making: asked for until it is there; `otherwise` while it is not, or if there
 * is none.
 */
export function Picture({
  src,
  alt,
  otherwise,
  className,
}: {
  src: string;
  alt: string;
  otherwise: ReactNode;
  className?: string;
}) {
  // Another picture begins anew.
  return <Asked key={src} src={src} alt={alt} otherwise={otherwise} className={className} />;
}

function Asked({
  src,
  alt,
  otherwise,
  className,
}: {
  src: string;
  alt: string;
  otherwise: ReactNode;
  className?: string;
}) {
  const [tries, setTries] = useState(0);
  const [state, setState] = useState<'asking' | 'waiting' | 'there' | 'none'>('asking');
  useEffect(() => {
    if (state !== 'waiting') return;
    const leaving = new AbortController();
    const timer = setTimeout(
      () => {
        fetch(src, { signal: leaving.signal }).then(
          (answer) => {
            if (answer.status === 202 && tries < TRIES) setTries(tries + 1);
            else setState(answer.status === 200 ? 'asking' : 'none');
          },
          () => undefined,
        );
      },
      FIRST_WAIT_MS * 1.5 ** tries,
    );
    return () => {
      clearTimeout(timer);
      leaving.abort();
    };
  }, [src, state, tries]);
  return (
    <>
      {state !== 'there' && otherwise}
      {(state === 'asking' || state === 'there') && (
        <img
          src={tries === 0 ? src : `${src}${src.includes('?') ? '&' : '?'}again=${tries}`}
          alt={alt}
          className={state === 'there' ? className : 'd-none'}
          draggable={false}
          onLoad={() => setState('there')}
          onError={() => setState(tries === 0 || state === 'asking' ? 'waiting' : 'none')}
        />
      )}
    </>
  );
}
