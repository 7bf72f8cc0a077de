import type { IntakeSheet } from '@quay/contract';
import { coloursFault, embedSnippet, originOf, type EmbedColours } from '@quay/core';
import { useState } from 'react';
import { Button, Form } from 'react-bootstrap';
import { CopyLine } from '../../ui/copy';
import { tellFailure, useNotices } from '../../ui/notices';
import { useChangeIntake } from './queries';
import './embed.scss';

const OURS: EmbedColours = { ink: '#1c2b33', paper: '#fbf9f4', accent: '#0e5a60' };
const COLOUR_WORDS: [keyof EmbedColours, string][] = [
  ['ink', 'Text'],
  ['paper', 'Paper'],
  ['accent', 'What is pressed'],
];

/** The intake within pages of the office's own: which, in which colours, and what is put into them. */
export function EmbedPart({ intake }: { intake: IntakeSheet }) {
  const { id, embed, link, title } = intake;
  return (
    <section>
      <details open={embed !== null}>
        <summary className="small">On your own web page</summary>
        {/* What somebody else has changed is taken up. */}
        <EmbedForm key={JSON.stringify(embed)} id={id} embed={embed} />
        {embed && (
          <>
            <p className="small mb-1">Put this into the page; it grows with what it shows:</p>
            <CopyLine value={embedSnippet(link, title)} label="snippet" isLong />
          </>
        )}
      </details>
    </section>
  );
}

function EmbedForm({ id, embed }: Pick<IntakeSheet, 'id' | 'embed'>) {
  const { mutate, isPending } = useChangeIntake(id);
  const tell = useNotices((s) => s.show);
  const [typed, setTyped] = useState(embed?.origins.join('\n') ?? '');
  const [colours, setColours] = useState(embed?.colours ?? null);
  const [isTold, setIsTold] = useState(false);
  const lines = typed.split(/\s+/).filter((line) => line !== '');
  const wrong = lines.find((line) => originOf(line) === null);
  const fault =
    lines.length === 0
      ? 'Say the address of the page.'
      : wrong !== undefined
        ? `${wrong} is no address of a page (as https://www.saltmarsh.example).`
        : (colours && coloursFault(colours)) || null;
  const save = () => {
    setIsTold(true);
    if (fault !== null) return;
    const origins = [...new Set(lines.map((line) => originOf(line) as string))];
    mutate({ embed: { origins, colours } }, { onSuccess: () => tell('It can be shown there.'), onError: tellFailure });
  };
  const remove = () =>
    mutate({ embed: null }, { onSuccess: () => tell('It is shown in no other page any more.'), onError: tellFailure });
  return (
    <div className="embed-form">
      <Form.Group controlId="embed-origins">
        <Form.Label className="small">Pages that may show it, by their address</Form.Label>
        <Form.Control
          as="textarea"
          rows={2}
          size="sm"
          className="mono"
          spellCheck={false}
          placeholder="https://www.saltmarsh.example"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </Form.Group>
      <Form.Check
        id="embed-colours"
        label="In colours of that page"
        checked={colours !== null}
        onChange={(e) => setColours(e.target.checked ? OURS : null)}
      />
      {colours && (
        <div className="colours">
          {COLOUR_WORDS.map(([name, words]) => (
            <label key={name} className="small">
              <Form.Control
                type="color"
                value={colours[name]}
                onChange={(e) => setColours({ ...colours, [name]: e.target.value })}
              />
              {words}
            </label>
          ))}
        </div>
      )}
      {isTold && fault !== null && (
        <div className="field-fault" role="alert">
          {fault}
        </div>
      )}
      <div className="verbs">
        <Button size="sm" variant="plain" disabled={isPending} onClick={save}>
          {embed ? 'Save' : 'Allow it'}
        </Button>
        {embed && (
          <Button size="sm" variant="plain" disabled={isPending} onClick={remove}>
            On no page any more
          </Button>
        )}
      </div>
    </div>
  );
}
