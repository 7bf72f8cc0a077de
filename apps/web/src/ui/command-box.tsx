import { readQuestion } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Form, Modal } from 'react-bootstrap';
import { useLocation, useNavigate } from 'react-router';
import { useSlip } from '../slip/store';
import { AnswerDialog } from './access/answer-dialog';
import { useOffered } from './offered';
import { placesOf } from './places';
import { sharesNamedQuery, storesQuery } from './queries';
import { useMe } from './session';
import './command-box.scss';

interface Command {
  words: string;
  kind: string;
  run: () => void;
}

/** Ctrl K: go to a place, find a store or share, do a thing. */
export function CommandBox({ show, close }: { show: boolean; close: () => void }) {
  const [question, setQuestion] = useState<string | null>(null);
  const here = /^\/stores\/([0-9a-f-]{36})/.exec(useLocation().pathname)?.[1] ?? null;
  return (
    <>
      <Modal show={show} onHide={close} aria-label="Find or do" restoreFocus>
        <Modal.Body>{show && <CommandSearch close={close} ask={setQuestion} />}</Modal.Body>
      </Modal>
      {question !== null && <AnswerDialog question={{ text: question, here }} close={() => setQuestion(null)} />}
    </>
  );
}

function CommandSearch({ close, ask }: { close: () => void; ask: (question: string) => void }) {
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const shares = useSharesNamed(text);
  const commands = [...useCommands().filter((c) => matches(c.words, text)), ...shares].slice(0, 11);
  const me = useMe();
  const isQuestion = me.duties.includes('run-people') && readQuestion(text) !== null;
  const questions: Command[] = isQuestion
    ? [{ words: text.trim(), kind: 'question', run: () => ask(text.trim()) }]
    : [];
  const files: Command[] =
    text.trim() === ''
      ? []
      : [
          {
            words: `Files named “${text.trim()}”`,
            kind: 'find',
            run: () => void navigate(`/stores/find?text=${encodeURIComponent(text.trim())}`),
          },
        ];
  const found = [...questions, ...commands, ...files];
  const run = (command: Command | undefined) => {
    if (!command) return;
    close();
    command.run();
  };
  return (
    <>
      <Form.Control
        autoFocus
        role="combobox"
        aria-expanded
        aria-controls="commands"
        aria-activedescendant={found.length ? `command-${at}` : undefined}
        aria-label="Find or do"
        placeholder={
          me.duties.includes('run-people')
            ? 'A place, a file, what to do, or “who can open …”'
            : 'A place, a store, a share, a file, or what to do'
        }
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown') setAt(Math.min(found.length - 1, at + 1));
          else if (e.key === 'ArrowUp') setAt(Math.max(0, at - 1));
          else if (e.key === 'Enter') run(found[at]);
          else return;
          e.preventDefault();
        }}
      />
      <ul className="command-list" id="commands" role="listbox" aria-label="Found">
        {found.map((c, i) => (
          <li
            key={`${c.kind} ${c.words}`}
            id={`command-${i}`}
            role="option"
            aria-selected={i === at}
            onClick={() => run(c)}
            onMouseMove={() => setAt(i)}
          >
            {c.words} <span className="kind">{c.kind}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

function useCommands(): Command[] {
  const navigate = useNavigate();
  const me = useMe();
  const { data: stores = [] } = useQuery(storesQuery);
  const { list: offered } = useOffered();
  const go = (path: string) => () => void navigate(path);
  return [
    ...offered.map((o) => ({ ...o, kind: 'do here' })),
    ...placesOf(me).map(({ path, name }) => ({
      words: name,
      kind: 'place',
      run: go(path),
    })),
    ...stores.map((s) => ({
      words: s.kind === 'home' ? 'My files' : s.name,
      kind: 'store',
      run: go(`/stores/${s.rootId}`),
    })),
    {
      words: 'Open the slip',
      kind: 'do',
      run: () => useSlip.getState().begin(useSlip.getState().addingTo ?? undefined),
    },
    { words: 'Change my password', kind: 'do', run: go('/account') },
    ...(me.duties.includes('run-server')
      ? [{ words: 'See what the server does by itself', kind: 'do', run: go('/work') }]
      : []),
  ];
}

function useSharesNamed(text: string): Command[] {
  const navigate = useNavigate();
  const { data } = useQuery(sharesNamedQuery(text.trim().slice(0, 200)));
  return (data?.shares ?? []).map((s) => ({
    words: s.title,
    kind: 'share',
    run: () => void navigate(`/shares/${s.id}`),
  }));
}

function matches(words: string, text: string): boolean {
  const lower = words.toLowerCase();
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((part) => lower.includes(part));
}
