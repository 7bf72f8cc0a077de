import { messageHtml, messageSubject, messageText, type MessageTemplate, type MessageValues } from '@quay/core';
import { useEffect, useRef, useState } from 'react';

const VIEWS = { wide: 'On a screen', narrow: 'On a telephone', text: 'As text' } as const;
type View = keyof typeof VIEWS;

interface PreviewProps {
  typed: MessageTemplate;
  values: MessageValues;
  office: string;
}

/** A message as it arrives: in two widths, and as text. */
export function MessagePreview({ typed, values, office }: PreviewProps) {
  const [view, setView] = useState<View>('wide');
  return (
    <details>
      <summary className="small">As they get it</summary>
      <div className="chips my-1" role="group" aria-label="Show it">
        {(Object.keys(VIEWS) as View[]).map((key) => (
          <button
            key={key}
            type="button"
            className="btn btn-choice"
            aria-pressed={view === key}
            onClick={() => setView(key)}
          >
            {VIEWS[key]}
          </button>
        ))}
      </div>
      <div className={`message-preview ${view}`} tabIndex={0} role="group" aria-label="The message as they get it">
        <div className="subject">{messageSubject(typed, values)}</div>
        {view === 'text' ? (
          <div className="plain">{messageText(typed, values)}</div>
        ) : (
          <Html html={messageHtml(typed, values, office)} />
        )}
      </div>
    </details>
  );
}

/**
 * HTML of our own making, apart from the page. Its styles are put on one by one: this page allows none that are written
 * into it.
 */
function Html({ html }: { html: string }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const root = element.shadowRoot ?? element.attachShadow({ mode: 'open' });
    const body = new DOMParser().parseFromString(html.replaceAll(' style="', ' data-style="'), 'text/html').body;
    const box = document.createElement('div');
    box.style.cssText = body.dataset['style'] ?? '';
    box.append(...body.childNodes);
    for (const part of box.querySelectorAll<HTMLElement>('[data-style]'))
      part.style.cssText = part.dataset['style'] ?? '';
    // It is looked at, not gone through.
    for (const link of box.querySelectorAll('a')) link.removeAttribute('href');
    root.replaceChildren(box);
  }, [html]);
  return <div ref={host} className="html" />;
}
