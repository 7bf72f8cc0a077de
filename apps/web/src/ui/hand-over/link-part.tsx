import type { ShareSheet } from '@quay/contract';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { tellFailure } from '../notices';
import { LinkCode } from '../qr';
import { NoteIt } from './note-form';
import './link-part.scss';

type LinkPartProps = { share: Pick<ShareSheet, 'id' | 'link' | 'title'>; isOpen?: boolean };

/** The link as a code, on paper, and for other programs of the device. */
export function LinkPart({ share: { id, link, title }, isOpen = false }: LinkPartProps) {
  const [isShared, setIsShared] = useState(false);
  const pass = async () => {
    try {
      await navigator.share({ title, url: link });
      setIsShared(true);
    } catch (error) {
      // Whoever closes it has changed their mind.
      if ((error as Error).name !== 'AbortError') throw error;
    }
  };
  return (
    <details className="link-more mt-1" open={isOpen}>
      <summary className="small">QR code, paper, other programs</summary>
      <LinkCode link={link} title={title}>
        <a
          className="btn btn-plain btn-sm"
          href={`/api/shares/${id}/hand-overs/sheet.pdf`}
          target="_blank"
          rel="noreferrer"
        >
          Sheet to print (PDF)
        </a>
        {'share' in navigator && (
          <Button size="sm" variant="plain" onClick={() => void pass().catch(tellFailure)}>
            Another program
          </Button>
        )}
        {isShared && (
          <NoteIt shareId={id} asked={{ what: 'link', channel: 'device', to: [] }} done={() => setIsShared(false)}>
            Write down that it went
          </NoteIt>
        )}
      </LinkCode>
    </details>
  );
}
