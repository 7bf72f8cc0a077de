import type { SeenPage, SeePage, VisitorDoor } from '@quay/contract';
import { countOf, fromLocalField, toLocalField, type AudienceKind } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useRef, useState } from 'react';
import { Form, Modal } from 'react-bootstrap';
import type { FromVisitor } from '../visitor/seen';
import { grantableQuery } from './access/queries';
import { visitorLanguagesQuery } from './queries';
import type { StateKey } from './server-state';
import { useZone } from './session';
import { Failure } from './states';
import './as-visitor.scss';

interface AsVisitorProps {
  title: string;
  audience: AudienceKind;
  /** What is looked at: what makes it stale, and how it is asked for. */
  of: { key: StateKey; ask: (asked: SeePage) => Promise<SeenPage> };
  close: () => void;
}

/** The page as visitors get it, at any moment and as anybody; nothing is counted by it, and nothing can be taken. */
export function AsVisitor({ title, audience, of, close }: AsVisitorProps) {
  const zone = useZone();
  const [as, setAs] = useState('');
  const [atField, setAtField] = useState('');
  const [language, setLanguage] = useState(navigator.language);
  const [isTaken, setIsTaken] = useState(false);
  const at = atField === '' ? null : fromLocalField(atField, zone);
  const asked: SeePage = {
    at: at === null ? null : new Date(at).toISOString(),
    ...(as !== '' && (audience === 'members' ? { personId: as } : { address: as })),
  };
  const { data, error, refetch } = useQuery({
    queryKey: [...of.key, 'seen', asked],
    queryFn: () => of.ask(asked),
    // What was seen before stays until the next is there.
    placeholderData: (before: SeenPage | undefined) => before,
  });
  const hear = useCallback((said: FromVisitor) => {
    if (said.kind === 'as-address') setAs(said.address);
    setIsTaken(said.kind === 'nothing-taken');
  }, []);
  return (
    <Modal show size="xl" className="as-visitor" onHide={close} aria-label={`${title}, as a visitor sees it`}>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5">
          As a visitor sees it
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <div className="tools">
          <As audience={audience} as={as} set={setAs} />
          <label>
            <span>At</span>
            <Form.Control
              size="sm"
              type="datetime-local"
              value={atField}
              onChange={(e) => setAtField(e.target.value)}
            />
          </label>
          <Moments door={data?.door} isNow={atField === ''} set={setAtField} />
          <Languages language={language} set={setLanguage} />
        </div>
        <p className="quiet small" role="status">
          {saidOf(data, isTaken)}
        </p>
        {error ? (
          <Failure error={error} again={() => void refetch()} />
        ) : (
          <Page key={language} title={title} language={language} seen={data} hear={hear} />
        )}
      </Modal.Body>
    </Modal>
  );
}

const MINUTE_MS = 60_000;

/** Moments at which the page is another one. */
function Moments({ door, isNow, set }: { door: VisitorDoor | undefined; isNow: boolean; set: (at: string) => void }) {
  const zone = useZone();
  const { opensAt = null, closesAt = null } = door ?? {};
  const moments = [
    { words: 'Now', at: isNow ? null : '' },
    { words: 'Before it opens', at: opensAt && toLocalField(Date.parse(opensAt) - MINUTE_MS, zone) },
    { words: 'After it closes', at: closesAt && toLocalField(Date.parse(closesAt) + MINUTE_MS, zone) },
  ];
  return (
    <>
      {moments.map(
        ({ words, at }) =>
          at !== null && (
            <button key={words} type="button" className="btn btn-plain btn-sm" onClick={() => set(at)}>
              {words}
            </button>
          ),
      )}
    </>
  );
}

/** As whom it is seen, where that makes a difference. */
function As({ audience, as, set }: { audience: AudienceKind; as: string; set: (as: string) => void }) {
  const { data } = useQuery({ ...grantableQuery, enabled: audience === 'members' });
  if (audience === 'anyone') return null;
  return (
    <label>
      <span>As</span>
      {audience === 'members' ? (
        <Form.Select size="sm" value={as} onChange={(e) => set(e.target.value)}>
          <option value="">somebody who is not signed in</option>
          {data?.people.map((p) => (
            <option key={p.id} value={p.id}>
              {p.guest ? `${p.name}, guest` : p.name}
            </option>
          ))}
        </Form.Select>
      ) : (
        <Form.Control
          key={as}
          size="sm"
          type="email"
          className="mono"
          placeholder="somebody@firm.example"
          defaultValue={as}
          onBlur={(e) => set(e.target.value.trim())}
          onKeyDown={(e) => {
            if (e.key === 'Enter') set(e.currentTarget.value.trim());
          }}
        />
      )}
    </label>
  );
}

function Languages({ language, set }: { language: string; set: (language: string) => void }) {
  const { data } = useQuery(visitorLanguagesQuery);
  const languages = data?.languages ?? [];
  const chosen = languages.find((tag) => language === tag || language.startsWith(`${tag}-`)) ?? languages[0] ?? '';
  const names = new Intl.DisplayNames('en', { type: 'language' });
  return (
    <label>
      <span>In</span>
      <Form.Select size="sm" value={chosen} onChange={(e) => set(e.target.value)}>
        {languages.map((tag) => (
          <option key={tag} value={tag}>
            {names.of(tag)}
          </option>
        ))}
      </Form.Select>
    </label>
  );
}

/** What whoever publishes should know of what is shown, and visitors do not see. */
function saidOf(seen: SeenPage | undefined, isTaken: boolean): string {
  if (isTaken) return 'Here nothing is taken, brought or signed in to: visitors can.';
  if (!seen) return 'One moment.';
  const words = [
    seen.kept && `${seen.kept.words} They are told no more than you see here.`,
    seen.door.needsPassword && 'Any password opens it here.',
    seen.inside?.contents?.markedFor && 'Pictures are shown without the mark here.',
    seen.hidden > 0 &&
      `${countOf(seen.hidden, 'file')} that you do not see yourself ${seen.hidden === 1 ? 'is' : 'are'} left out.`,
  ].filter(Boolean);
  return words.join(' ') || 'Opening it here counts no visit.';
}

interface PageProps {
  title: string;
  language: string;
  seen: SeenPage | undefined;
  hear: (said: FromVisitor) => void;
}

function Page({ title, language, seen, hear }: PageProps) {
  const frame = useRef<HTMLIFrameElement>(null);
  const [isReady, setIsReady] = useState(false);
  useEffect(() => {
    const onMessage = ({ origin, source, data }: MessageEvent<FromVisitor | null>) => {
      if (origin !== location.origin || source !== frame.current?.contentWindow) return;
      if (data?.kind === 'ready') setIsReady(true);
      // Programs in the browser say things of their own.
      else if (data?.kind === 'as-address' || data?.kind === 'nothing-taken') hear(data);
    };
    addEventListener('message', onMessage);
    return () => removeEventListener('message', onMessage);
  }, [hear]);
  useEffect(() => {
    if (isReady && seen) frame.current?.contentWindow?.postMessage({ seen }, location.origin);
  }, [isReady, seen]);
  return (
    <iframe
      ref={frame}
      title={`The page of ${title}`}
      src={`/api/visitor-page?language=${encodeURIComponent(language)}`}
    />
  );
}
