import { useId, type ReactNode } from 'react';

interface PartProps {
  name: string;
  /** What stands there while it is folded. */
  said: ReactNode;
  open: boolean;
  /** Opens it, or folds it. */
  press: () => void;
  /** Somebody is in it: it stays open when it is settled meanwhile. */
  hold: () => void;
  children: ReactNode;
}

/** A part of the slip: one line while it is settled, all of it when it is pressed or needs a decision. */
export function Part({ name, said, open, press, hold, children }: PartProps) {
  const id = useId();
  return (
    <div className={open ? 'part' : 'part folded'} onFocus={open ? hold : undefined}>
      <h3>
        <button type="button" aria-expanded={open} aria-controls={open ? id : undefined} onClick={press}>
          <span className="name">{name}</span>
          {!open && <span className="said">{said}</span>}
          {!open && <i className="bi bi-chevron-down" aria-hidden />}
        </button>
      </h3>
      {open && <div id={id}>{children}</div>}
    </div>
  );
}
