import type { DepositRow } from '@quay/contract';
import { MOST_ASKED_BACK } from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { tellFailure, useNotices } from '../../ui/notices';
import { When } from '../../ui/words';
import { useAskBack } from './queries';

/** What a contributor was asked about what they handed in, and what answers it; and the way to ask. */
export function AskBackPart({ deposit, mayAsk }: { deposit: DepositRow; mayAsk: boolean }) {
  const { askedBack, followedBy } = deposit;
  const [isAsking, setIsAsking] = useState(false);
  return (
    <div className="asked-back small">
      {askedBack.map(({ words, at, by }, i) => (
        <p key={i} className="mb-1">
          <span className="quiet">
            {by} asked, <When at={at} />:
          </span>{' '}
          {words}
        </p>
      ))}
      {followedBy.length > 0 && <p className="mb-1">Answered by {followedBy.join(', ')}.</p>}
      {isAsking ? (
        <AskBackForm deposit={deposit} done={() => setIsAsking(false)} />
      ) : (
        mayAsk &&
        askedBack.length < MOST_ASKED_BACK && (
          <Button size="sm" variant="plain" onClick={() => setIsAsking(true)}>
            {askedBack.length === 0 ? 'Ask back' : 'Ask again'}
          </Button>
        )
      )}
    </div>
  );
}

function AskBackForm({ deposit: { id, who, answers }, done }: { deposit: DepositRow; done: () => void }) {
  const { mutate, isPending } = useAskBack(id);
  const tell = useNotices((s) => s.show);
  const [words, setWords] = useState('');
  const byMail = answers.some((a) => a.asked === 'Mail');
  return (
    <form
      className="mt-2"
      onSubmit={(e) => {
        e.preventDefault();
        mutate(words, {
          onSuccess: () => {
            done();
            tell(byMail ? `${who} is asked by mail.` : `It stands on the receipt of ${who}.`);
          },
          onError: tellFailure,
        });
      }}
    >
      <Form.Group controlId={`ask-${id}`}>
        <Form.Label>
          {byMail
            ? 'It goes out by mail, with the link of their receipt, from where they hand in more.'
            : 'They left no address: they read it on their receipt, from where they hand in more.'}
        </Form.Label>
        <Form.Control
          as="textarea"
          rows={2}
          size="sm"
          autoFocus
          maxLength={1000}
          placeholder="Please send sheet 3 again: it is cut off."
          value={words}
          onChange={(e) => setWords(e.target.value)}
        />
      </Form.Group>
      <div className="verbs mt-2">
        <Button size="sm" type="submit" disabled={isPending || words.trim() === ''}>
          Ask {who}
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Cancel
        </Button>
      </div>
    </form>
  );
}
