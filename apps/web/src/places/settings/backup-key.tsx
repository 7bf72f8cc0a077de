import { useState, type ReactNode } from 'react';
import { Button } from 'react-bootstrap';
import { keepFocus } from '../../ui/form';
import { tellFailure } from '../../ui/notices';
import { saveText } from '../../ui/save-text';

interface Props {
  recipients: string;
  add: (recipient: string) => void;
  children: ReactNode;
}

/**
 * The keys that backups are encrypted to, and a way to make one here: it is made in this browser, and the half that
 * opens them is given to whoever sits here alone.
 */
export function BackupKey({ recipients, add, children }: Props) {
  const [made, setMade] = useState<string | null>(null);
  const make = async () => {
    const { generateX25519Identity, identityToRecipient } = await import('age-encryption');
    const identity = await generateX25519Identity();
    const recipient = await identityToRecipient(identity);
    // As age-keygen(1) writes it.
    const text = `# created: ${new Date().toISOString()}\n# public key: ${recipient}\n${identity}\n`;
    saveText('lockfast-quay-backup-key.txt', text);
    add(recipient);
    setMade(recipient);
  };
  return (
    <div>
      {children}
      <div className="d-flex flex-wrap align-items-center gap-2 mt-1">
        <Button variant="plain" size="sm" onMouseDown={keepFocus} onClick={() => void make().catch(tellFailure)}>
          Make a key
        </Button>
        {made && recipients.includes(made) ? (
          <span role="status">
            The file <strong>lockfast-quay-backup-key.txt</strong> was saved here. Keep it away from this server and
            from the backups: without it, and without this server, nobody opens them.
          </span>
        ) : (
          <span className="quiet">or any that age-keygen has made. Whoever holds only the backups reads nothing.</span>
        )}
      </div>
    </div>
  );
}
