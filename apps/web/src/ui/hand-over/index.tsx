import type { HandOverRow, HandOvers as Found, SettleHandOver, ShareSheet } from '@quay/contract';
import { countOf, givenToEach, HAND_OVER_CHANNEL_WORDS, type GivenTo, type HandedOver } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { Failure } from '../states';
import { When } from '../words';
import { useFresh } from './fresh';
import { MailForm } from './mail-form';
import { NoteForm } from './note-form';
import { PasswordPart } from './password-part';
import { handOversQuery, useHandOver } from './queries';
import { TextForm } from './text-form';
import './index.scss';

const MOST_LISTED = 8;
/** Of a list of whom it is for, so many are named that have been given nothing. */
const MOST_EXPECTED = 20;

/** What is being handed over, to whom it begins with, and how. */
interface Doing {
  way: 'mail' | 'text' | 'note' | 'withdrawal';
  what: 'link' | 'password';
  to: string;
}

type Share = Pick<ShareSheet, 'id' | 'hasPassword' | 'withdrawnAt' | 'whoIsMeant'>;

/** What each recipient has and has not been given of a share, what became of that, and the ways to hand it over. */
export function HandOvers({ share }: { share: Share }) {
  const { data, error, refetch } = useQuery(handOversQuery(share.id));
  const fresh = useFresh((s) => s.passwords[share.id]) ?? null;
  const [doing, setDoing] = useState<Doing | null>(null);
  const [all, setAll] = useState(false);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return null;
  const each = givenToEach(data.rows, expectedOf(share));
  const shown = each.slice(0, all ? undefined : MOST_LISTED);
  const done = () => setDoing(null);
  return (
    <>
      {fresh !== null && share.hasPassword && <PasswordPart key={fresh} password={fresh} />}
      <section className="hand-overs">
        <h3>Handed over</h3>
        {each.length === 0 && <p className="quiet small mb-1">To nobody yet, as far as is written down here.</p>}
        <ul>
          {shown.map((given) => (
            <Given key={given.recipient} {...{ given, share, by: data, begin: setDoing }} />
          ))}
        </ul>
        {each.length > shown.length && (
          <Button variant="link" size="sm" className="p-0" onClick={() => setAll(true)}>
            All {each.length}
          </Button>
        )}
        {doing === null ? (
          <Ways {...{ share, by: data, each, fresh, begin: setDoing }} />
        ) : doing.way === 'note' ? (
          <NoteForm {...{ shareId: share.id, to: doing.to, what: doing.what, done }} />
        ) : doing.way === 'text' ? (
          <TextForm {...{ shareId: share.id, by: data, to: doing.to, what: doing.what, password: fresh, done }} />
        ) : (
          <MailForm
            key={doing.to}
            {...{ shareId: share.id, by: data, to: doing.to, done }}
            about={doing.way === 'withdrawal' ? 'withdrawal' : 'link'}
          />
        )}
      </section>
    </>
  );
}

/** Those of a list whom something can be sent to: domains are nobody. */
const expectedOf = ({ whoIsMeant: { kind, listed } }: Share): string[] =>
  kind === 'listed' ? listed.filter((entry) => /^[^*@][^@]*@|^\+\d/.test(entry)).slice(0, MOST_EXPECTED) : [];

const isFailed = (row: HandOverRow) => ['refused', 'given-up', 'returned'].includes(row.state);
const needsAgain = (row: HandOverRow | null) =>
  row !== null && !row.settled && (isFailed(row) || row.outdated.length > 0);

interface WaysProps {
  share: Share;
  by: Found;
  each: GivenTo<HandOverRow>[];
  fresh: string | null;
  begin: (doing: Doing) => void;
}

/** The ways there are at the moment. */
function Ways({ share, by, each, fresh, begin }: WaysProps) {
  const mailed = (rows: GivenTo<HandOverRow>[]) =>
    rows.filter((g) => g.link?.channel === 'mail' && g.recipient !== '').map((g) => g.recipient);
  if (share.withdrawnAt !== null) {
    const told = mailed(each.filter((g) => g.withdrawal === null && g.link !== null && !isFailed(g.link)));
    if (told.length === 0) return null;
    return (
      <Button
        variant="plain"
        size="sm"
        className="mt-1"
        onClick={() => begin({ way: 'withdrawal', what: 'link', to: told.join(', ') })}
      >
        Tell {countOf(told.length, 'recipient')} that it is withdrawn
      </Button>
    );
  }
  const again = mailed(each.filter((g) => g.link !== null && !isFailed(g.link) && needsAgain(g.link)));
  return (
    <div className="d-flex flex-wrap gap-2 mt-1">
      <Button variant="plain" size="sm" onClick={() => begin({ way: 'mail', what: 'link', to: '' })}>
        Send by mail
      </Button>
      {by.canText && (
        <Button variant="plain" size="sm" onClick={() => begin({ way: 'text', what: 'link', to: '' })}>
          Link as a text message
        </Button>
      )}
      {by.canText && fresh !== null && share.hasPassword && (
        <Button variant="plain" size="sm" onClick={() => begin({ way: 'text', what: 'password', to: '' })}>
          Password as a text message
        </Button>
      )}
      <Button
        variant="plain"
        size="sm"
        onClick={() => begin({ way: 'note', what: share.hasPassword ? 'password' : 'link', to: '' })}
      >
        Write down what I did
      </Button>
      {again.length > 1 && by.canMail && (
        <Button variant="plain" size="sm" onClick={() => begin({ way: 'mail', what: 'link', to: again.join(', ') })}>
          Send again to all {again.length}
        </Button>
      )}
    </div>
  );
}

const STATE: Record<HandOverRow['state'], string> = {
  waiting: 'on its way',
  sent: 'taken by the mail server',
  refused: 'refused',
  'given-up': 'given up',
  returned: 'came back',
  done: '',
};
const stateOf = ({ state, channel }: HandOverRow) =>
  state === 'sent' && channel === 'text' ? 'taken by the gateway' : STATE[state];

interface GivenProps {
  given: GivenTo<HandOverRow>;
  share: Share;
  by: Found;
  begin: (doing: Doing) => void;
}

/** How something goes to somebody once more: as before where the office can send it there, or by oneself. */
function wayAgain(what: 'link' | 'password', row: HandOverRow | null, recipient: string, by: Found): Doing['way'] {
  if (what === 'password') return 'note';
  if (row?.channel === 'text' && by.canText && recipient.startsWith('+')) return 'text';
  return by.canMail && recipient.includes('@') ? 'mail' : 'note';
}

/** One recipient: what they have, and what they have not. */
function Given({ given, share, by, begin }: GivenProps) {
  const { recipient } = given;
  const name = [given.link, given.password, given.files].find((row) => row?.name)?.name;
  const isOver = share.withdrawnAt !== null;
  const again = (what: 'link' | 'password', row: HandOverRow | null) => () =>
    begin({ way: wayAgain(what, row, given.recipient, by), what, to: given.recipient });
  return (
    <li className="small py-1">
      <strong>{name || recipient || 'Somebody'}</strong>
      {name && <span className="quiet"> {recipient}</span>}
      <Part
        {...{ row: given.link, what: 'link', label: 'Link', share }}
        again={isOver ? null : again('link', given.link)}
      />
      {share.hasPassword && (
        <Part
          {...{ row: given.password, what: 'password', label: 'Password', share }}
          again={isOver ? null : again('password', given.password)}
        />
      )}
      {given.files && <Part {...{ row: given.files, what: 'files', label: 'Files', share }} again={null} />}
      {given.withdrawal && (
        <Part {...{ row: given.withdrawal, what: 'withdrawal', label: 'That it is withdrawn', share }} again={null} />
      )}
    </li>
  );
}

interface PartProps {
  row: HandOverRow | null;
  what: HandedOver;
  label: string;
  share: Share;
  again: (() => void) | null;
}

function Part({ row, what, label, share, again }: PartProps) {
  const settle = useHandOver<SettleHandOver>(share.id, 'PATCH', () => `/${row?.id ?? ''}`);
  if (!row)
    return (
      <div className="given quiet">
        {label}: not yet{' '}
        {what === 'password' && again && (
          <Button variant="plain" size="sm" onClick={again}>
            Write it down<span className="visually-hidden"> for this recipient</span>
          </Button>
        )}
      </div>
    );
  const isAmiss = isFailed(row) || row.sameWay;
  return (
    <div className="given">
      {label}: {HAND_OVER_CHANNEL_WORDS[row.channel]}{' '}
      <span className="quiet">
        <When at={row.at} brief />
        {stateOf(row) && `, ${stateOf(row)}`}
        {row.openedAt && (
          <>
            , opened <When at={row.openedAt} brief />
          </>
        )}
      </span>
      {isFailed(row) && <div className="field-fault">{row.answer}</div>}
      {row.perhapsTwice && <div className="field-advice">They may have got it twice: the connection broke.</div>}
      {row.sameWay && !row.settled && <div className="field-advice">By the same way as the other half.</div>}
      {row.outdated.length > 0 && <div className="field-advice">Not true any more: {row.outdated.join(', ')}.</div>}
      {(needsAgain(row) || (isAmiss && !row.settled)) && (
        <div className="d-flex flex-wrap gap-2">
          {needsAgain(row) && again && (
            <Button variant="plain" size="sm" onClick={again}>
              {what === 'link' ? 'Send again' : 'I have told them'}
              <span className="visually-hidden">
                {what === 'link' ? ' to ' : ': '}
                {row.recipient}
              </span>
            </Button>
          )}
          {isAmiss && (
            <Button
              variant="plain"
              size="sm"
              disabled={settle.isPending}
              onClick={() => settle.mutate({ settled: true })}
            >
              It is settled
            </Button>
          )}
        </div>
      )}
    </div>
  );
}
