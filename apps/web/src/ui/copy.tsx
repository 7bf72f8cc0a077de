import { useState } from 'react';
import { tellFailure } from './notices';
import './copy.scss';

/** A value with a button that copies it. @param isLong it has many lines */
export function CopyLine({ value, label, isLong = false }: { value: string; label: string; isLong?: boolean }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(value);
      setCopied(true);
      setTimeout(() => setCopied(false), 2500);
    } catch {
      tellFailure(new Error('This browser does not let the page copy. Select the text and copy it by hand.'));
    }
  };
  return (
    <div className="copy-line">
      {isLong ? (
        <textarea className="value" aria-label={label} rows={5} readOnly spellCheck={false} value={value} />
      ) : (
        <span className="value" aria-label={label}>
          {value}
        </span>
      )}
      <button type="button" className="btn btn-plain" onClick={() => void copy()}>
        <span aria-live="polite">{copied ? 'Copied' : 'Copy'}</span>
        <span className="visually-hidden"> {label}</span>
      </button>
    </div>
  );
}
