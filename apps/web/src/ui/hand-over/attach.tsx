import type { HandOvers } from '@quay/contract';
import type { MailAbout } from '@quay/core';
import { Form } from 'react-bootstrap';

interface AttachProps {
  by: HandOvers;
  about: MailAbout;
  recipients: number;
  set: (about: MailAbout) => void;
}

/** Link or attachment, with the numbers that speak for the one or the other. */
export function Attach({ by: { attach }, about, recipients, set }: AttachProps) {
  const many = recipients > 1 ? ` Sent to ${recipients}, it leaves the office ${recipients} times.` : '';
  const words = attach.barred ? `An attachment would go without ${attach.barred}: send the link.` : attach.words + many;
  return (
    <div>
      <div className="d-flex flex-wrap gap-3" role="radiogroup" aria-label="Link or attachment">
        <Form.Check
          {...{ type: 'radio', name: 'mail-about', id: 'mail-link', label: 'Send the link' }}
          checked={about === 'link'}
          onChange={() => set('link')}
        />
        <Form.Check
          {...{ type: 'radio', name: 'mail-about', id: 'mail-files', label: 'Attach the files' }}
          checked={about === 'files'}
          disabled={!attach.can || attach.barred !== null}
          onChange={() => set('files')}
        />
      </div>
      <div className="quiet small">{words}</div>
    </div>
  );
}
