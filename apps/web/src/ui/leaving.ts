import { useEffect } from 'react';

/** Asks before the page is left while something is on its way. */
export function useAskBeforeLeaving(busy: boolean): void {
  useEffect(() => {
    const warn = (event: BeforeUnloadEvent) => busy && event.preventDefault();
    window.addEventListener('beforeunload', warn);
    return () => window.removeEventListener('beforeunload', warn);
  }, [busy]);
}
