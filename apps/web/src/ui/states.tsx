import type { ReactNode } from 'react';
import { Button } from 'react-bootstrap';
import './states.scss';

/** What a page shows while its rows are on the way. */
export function SkeletonRows({ count = 8 }: { count?: number }) {
  return (
    <div role="status" aria-label="Loading">
      {Array.from({ length: count }, (_, i) => (
        <div key={i} className="skeleton-row">
          <span className={`w-${[50, 75, 25][i % 3]}`} />
        </div>
      ))}
    </div>
  );
}

/** What happened and what to do about it. */
export function Failure({ error, again }: { error: unknown; again?: () => void }) {
  return (
    <div className="failure" role="alert">
      <p className="mb-2">{error instanceof Error ? error.message : 'Something went wrong.'}</p>
      {again && (
        <Button variant="plain" size="sm" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** What a place is for, and the first thing to do. */
export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="empty">
      <p>{children}</p>
      {action}
    </div>
  );
}
