/**
 * Listens to server-sent events while the page is shown. A hidden page or one that is left lets its connection go,
 * because a browser grants a host only six of them (common practice, no source); it asks anew when it is shown again.
 * @param opened called whenever the connection stands: what happened before that moment is not known
 * @param refused called when the server lets nobody listen here any more; it is not asked again
 * @param lost called when the connection broke off; the browser goes on trying
 * @returns what ends the listening
 */
export function listenWhileShown(
  url: string,
  message: (data: string) => void,
  opened: () => void,
  refused?: () => void,
  lost?: () => void,
): () => void {
  let source: EventSource | null = null;
  const leave = () => {
    source?.close();
    source = null;
  };
  const follow = () => {
    if (document.visibilityState === 'hidden') leave();
    else if (!source) {
      source = new EventSource(url);
      source.onmessage = (event: MessageEvent<string>) => message(event.data);
      source.onopen = opened;
      source.onerror = () => {
        if (source?.readyState !== EventSource.CLOSED) return lost?.();
        leave();
        refused?.();
      };
    }
  };
  follow();
  document.addEventListener('visibilitychange', follow);
  window.addEventListener('pagehide', leave);
  window.addEventListener('pageshow', follow);
  return () => {
    leave();
    document.removeEventListener('visibilitychange', follow);
    window.removeEventListener('pagehide', leave);
    window.removeEventListener('pageshow', follow);
  };
}
