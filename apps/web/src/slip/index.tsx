import type { CreateShare, SeeDraft, SeenPage, ShareSheet } from '@quay/contract';
import { audienceWords, countOf, mayWords, momentInWords, shareSentence, type RailField } from '@quay/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Button } from 'react-bootstrap';
import { api } from '../ui/api';
import { now as serverNow, useNow, useZone } from '../ui/session';
import { useChanged } from '../ui/changed';
import { AsVisitor } from '../ui/as-visitor';
import { AudienceField } from '../ui/audience/audience-field';
import { useJudgedAudience, type JudgedAudience } from '../ui/audience/chosen';
import { guardrailsForQuery } from '../ui/queries';
import { RailFaults } from '../ui/rail-faults';
import { useSizes } from '../ui/sizes';
import { WindowField } from '../ui/window-field';
import { MayField } from '../ui/may-field';
import { Sentence } from '../ui/words';
import { AddTo } from './add-to';
import { Address, SlipLamp, useBetterAddress, useChosenAddress } from './address';
import { DropZone } from './drop';
import { useGuessing, type Guess } from '../ui/password-field';
import { Guard, GuardSaid, useSlipPassword } from './guard';
import { Handover } from './handover';
import { SlipHead } from './head';
import { Part } from './part';
import { useFix } from './rails';
import { useSlip } from './store';
import { ChooseTemplate, KeepTemplates } from './templates';
import { shareAsked, slipTerms, type SlipTerms } from './terms';
import { What, WhatSaid } from './what';
import './index.scss';

/** The docked panel on which a share is put together, from any folder; folded it is a tab with its count. */
export function Slip() {
  const slip = useSlip();
  if (!slip.begun) return null;
  if (slip.folded) {
    return (
      <button type="button" className="slip-tab" onClick={() => slip.fold(false)}>
        Slip, {countOf(slip.items.length, 'item')}
      </button>
    );
  }
  return (
    <aside className="slip" aria-label="Slip">
      {slip.published ? (
        <Handover />
      ) : (
        <DropZone>{slip.addingTo ? <AddTo share={slip.addingTo} /> : <SlipForm />}</DropZone>
      )}
    </aside>
  );
}

function SlipForm() {
  const slip = useSlip();
  const zone = useZone();
  const now = useNow();
  const changed = useChanged();
  const sizes = useSizes(slip.items);
  const judged = useJudgedAudience(slip);
  const guess = useGuessing(useSlipPassword().chosen, slip.title, slip.audience);
  const { data: rails } = useQuery(guardrailsForQuery(slip.items.map((i) => i.id)));
  const facts = { zone, sizes, rails, passwordScore: guess.score, addressId: useChosenAddress()?.id ?? '' };
  const meant = slipTerms(slip, judged, { ...facts, now });
  const [tried, setTried] = useState(false);
  useEffect(() => {
    if (slip.passwordChoice === 'proposed' && slip.password === '') void slip.propose();
  }, [slip]);
  const publish = useMutation({
    mutationFn: async () => {
      // Whoever is quick publishes before a password was thought of.
      if (slip.passwordChoice === 'proposed' && slip.password === '') await slip.propose();
      const drawn = useSlip.getState();
      // The window of a preset counts from the moment of publishing, not from when the slip was drawn.
      const meantNow = slipTerms(drawn, judged, { ...facts, now: serverNow() });
      const asked = shareAsked(drawn, judged, meantNow);
      return { sheet: await api<ShareSheet>('POST', '/api/shares', asked), password: asked.password };
    },
    onSuccess: (published) => {
      slip.set({ published });
      changed('shares');
    },
  });
  const weak = guess.weak && !slip.weakPasswordMeant;
  const stuck = Object.keys(meant.faults).length + meant.railFaults.length > 0 || weak;
  return (
    <form
      className="d-flex flex-column h-100 overflow-hidden"
      onSubmit={(e) => {
        e.preventDefault();
        setTried(true);
        if (!stuck) publish.mutate();
      }}
    >
      <SlipHead bytes={meant.terms.totalBytes}>
        <ChooseTemplate />
      </SlipHead>
      <Parts {...{ meant, judged, guess, tried, sizes }} />
      <div className="slip-foot">
        <Sentence parts={shareSentence(meant.terms, now, zone)} />
        <Lamps guess={guess} fault={publish.error?.message ?? (tried && stuck ? stuckWords(meant) : null)} />
        <div className="verbs">
          <Button type="submit" disabled={publish.isPending}>
            {publish.isPending ? 'Publishing' : 'Publish'}
          </Button>
          <See meant={meant} judged={judged} />
          <Button variant="plain" onClick={slip.clear}>
            Clear the slip
          </Button>
        </div>
      </div>
    </form>
  );
}

/** The page as visitors would get it, before anything is published. */
function See({ meant, judged }: Pick<PartsProps, 'meant' | 'judged'>) {
  const slip = useSlip();
  const [share, setShare] = useState<CreateShare | null>(null);
  const { faults } = meant;
  // As it is when it is begun to be looked at: windows of presets move on with the clock.
  const look = () => {
    const asked = shareAsked(slip, judged, meant);
    const password = asked.password === null ? null : DRAFT_PASSWORD;
    // What is left to be filled in is no reason not to look.
    setShare({ ...asked, title: asked.title || 'No title yet', password, weakPasswordMeant: true });
  };
  return (
    <>
      <Button variant="plain" disabled={Boolean(faults.window ?? faults.audience)} onClick={look}>
        See as visitor
      </Button>
      {share && (
        <AsVisitor
          title={share.title}
          audience={slip.audience}
          of={{
            key: ['marks', 'page', share],
            ask: (see) => api<SeenPage>('POST', '/api/shares/seen', { ...see, share } satisfies SeeDraft),
          }}
          close={() => setShare(null)}
        />
      )}
    </>
  );
}

/** A password is not sent for a look: that there is one is enough. */
const DRAFT_PASSWORD = 'any password';

const stuckWords = (meant: SlipTerms): string =>
  Object.values(meant.faults)[0] ??
  meant.railFaults[0]?.words ??
  'The password is easy to guess. Take the proposed one, or tick that you mean it.';

/** Whether the link will work, how long guessing takes, and why it was not published. */
function Lamps({ guess, fault }: { guess: Guess; fault: string | null }) {
  return (
    <div className="lamps">
      <SlipLamp />
      {guess.words && <span className={guess.weak ? 'field-advice mt-0' : 'quiet'}>guessing it: {guess.words}</span>}
      {fault && (
        <span className="field-fault" role="alert">
          {fault}
        </span>
      )}
    </div>
  );
}

type PartName = 'What' | 'Who' | 'May' | 'When' | 'Guard' | 'Address';

interface PartsProps {
  meant: SlipTerms;
  judged: JudgedAudience;
  guess: Guess;
  tried: boolean;
  sizes: ReturnType<typeof useSizes>;
}

/** What is settled is one line; what needs a decision is open, and what was pressed last. */
function Parts({ meant, judged, guess, tried, sizes }: PartsProps) {
  const slip = useSlip();
  const address = useChosenAddress();
  const better = useBetterAddress();
  const [opened, setOpened] = useState<PartName | null>(null);
  const { faults, railFaults } = meant;
  const fix = useFix();
  const breaks = (...fields: RailField[]) => railFaults.some((fault) => fields.includes(fault.field));
  const needs: Record<PartName, boolean> = {
    What: Boolean(faults.title),
    Who: Boolean(faults.audience) || breaks('audience', 'publisher'),
    May: Boolean(faults.may) || breaks('may', 'watermark'),
    When: Boolean(faults.window) || breaks('window'),
    Guard:
      Boolean(faults.password ?? faults.limit ?? faults.files) ||
      (guess.weak && !slip.weakPasswordMeant) ||
      breaks('password', 'limit'),
    Address: !address || better !== undefined || breaks('address'),
  };
  const part = (name: PartName) => ({
    name,
    open: opened === name || needs[name],
    press: () => setOpened(opened === name ? null : name),
    hold: () => setOpened(name),
  });
  return (
    <div className="slip-body">
      <Part {...part('What')} said={<WhatSaid />}>
        <What meant={meant} tried={tried} sizes={sizes} />
      </Part>
      <Part {...part('Who')} said={<WhoSaid meant={meant} />}>
        <AudienceField chosen={slip} set={slip.set} judged={judged} />
        <RailFaults faults={railFaults} field="audience" fix={fix} />
        <RailFaults faults={railFaults} field="publisher" fix={fix} />
      </Part>
      <Part {...part('May')} said={<MaySaid meant={meant} />}>
        <MayField id="slip" chosen={slip} set={slip.set} fault={faults.may} />
        <RailFaults faults={railFaults} field="may" fix={fix} />
        <RailFaults faults={railFaults} field="watermark" fix={fix} />
      </Part>
      <Part {...part('When')} said={<WhenSaid meant={meant} />}>
        <WindowField chosen={slip} set={slip.set} window={meant.window} fault={faults.window} />
        <RailFaults faults={railFaults} field="window" fix={fix} />
      </Part>
      <Part {...part('Guard')} said={<GuardSaid />}>
        <Guard meant={meant} guess={guess} fix={fix} />
      </Part>
      <Part {...part('Address')} said={<span className="mono">{address?.text}</span>}>
        <Address />
        <RailFaults faults={railFaults} field="address" fix={fix} />
      </Part>
      <KeepTemplates judged={judged} />
    </div>
  );
}

const WhoSaid = ({ meant }: { meant: SlipTerms }) =>
  audienceWords(meant.terms.audience)
    .map((part) => part.text)
    .join('');

function MaySaid({ meant }: { meant: SlipTerms }) {
  const { verb, but } = mayWords(meant.terms.may);
  return (
    <>
      {verb}
      {but && `, ${but}`}
    </>
  );
}

function WhenSaid({ meant: { window } }: { meant: SlipTerms }) {
  const zone = useZone();
  const now = useNow();
  const { opensAt, closesAt } = window;
  return (
    <>
      {opensAt === null || opensAt <= now ? 'now' : momentInWords(opensAt, now, zone)} until{' '}
      {closesAt === null ? 'somebody closes it' : momentInWords(closesAt, now, zone)}
    </>
  );
}
