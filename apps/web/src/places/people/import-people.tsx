import type { ImportAnswer, ImportRow } from '@quay/contract';
import { countOf, decodeList, matchColumns, peopleOfRows } from '@quay/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Button, Form, Modal } from 'react-bootstrap';
import { api } from '../../ui/api';
import { useChanged } from '../../ui/changed';
import { InvitationNote } from '../../ui/access/invitation-note';
import { tellFailure } from '../../ui/notices';
import { Failure, SkeletonRows } from '../../ui/states';
import { importQuery } from './queries';

const MOST_BYTES = 1_000_000;
const MOST_ROWS = 1000;

/** A list of people is taken in: looked at line by line before anything is kept. */
export function ImportPeopleDialog({ close }: { close: () => void }) {
  const [rows, setRows] = useState<ImportRow[] | null>(null);
  const [fault, setFault] = useState<string | null>(null);
  const [done, setDone] = useState<ImportAnswer | null>(null);
  const read = async (file: File | undefined) => {
    if (!file) return;
    try {
      setRows(await rowsOf(file));
      setFault(null);
    } catch (error) {
      setRows(null);
      setFault((error as Error).message);
    }
  };
  return (
    <Modal show size="lg" scrollable onHide={close} aria-labelledby="import-title" restoreFocus>
      <Modal.Header closeButton>
        <Modal.Title as="h2" className="h5" id="import-title">
          {done ? `${countOf(done.invitations.length, 'person', 'people')} added` : 'Add people from a list'}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {done ? (
          <Added answer={done} close={close} />
        ) : (
          <>
            <Form.Group controlId="import-file" className="mb-2">
              <Form.Label>A list as CSV, with headings in its first line: name, mail, sign-in name, groups</Form.Label>
              <Form.Control
                type="file"
                accept=".csv,text/csv,.txt,.tsv"
                onChange={(e) => void read((e.target as HTMLInputElement).files?.[0])}
              />
            </Form.Group>
            {fault && (
              <p className="field-fault" role="alert">
                {fault}
              </p>
            )}
            {rows && <Look key={JSON.stringify(rows)} rows={rows} done={setDone} />}
          </>
        )}
      </Modal.Body>
    </Modal>
  );
}

/** @throws Error in words for whoever chose the file */
async function rowsOf(file: File): Promise<ImportRow[]> {
  if (file.size > MOST_BYTES) throw new Error('This list is larger than a megabyte. Take it in in parts.');
  const decode = (encoding: string, bytes: Uint8Array) => new TextDecoder(encoding, { fatal: true }).decode(bytes);
  const text = decodeList(new Uint8Array(await file.arrayBuffer()), decode);
  // Loaded when somebody takes a list in.
  const { default: Papa } = await import('papaparse');
  const { data } = Papa.parse<string[]>(text.trimEnd(), { skipEmptyLines: false });
  const [headings = [], ...rows] = data;
  const columns = matchColumns(headings);
  if (!columns.includes('email') || !(columns.includes('name') || columns.includes('last')))
    throw new Error(
      `Its first line has no headings for name and mail. It says: ${headings.join(', ').slice(0, 200) || 'nothing'}.`,
    );
  const people = peopleOfRows(rows, columns);
  if (people.length === 0) throw new Error('There is nobody in this list.');
  if (people.length > MOST_ROWS) throw new Error(`A list has at most ${MOST_ROWS} people. Take it in in parts.`);
  return people;
}

function Look({ rows, done }: { rows: ImportRow[]; done: (answer: ImportAnswer) => void }) {
  const changed = useChanged();
  const [mail, setMail] = useState(true);
  const [makeGroups, setMakeGroups] = useState(true);
  const asked = { rows, mail, makeGroups };
  const { data, error } = useQuery(importQuery(asked));
  const keep = useMutation({
    // Lines that cannot be taken were seen; the others are.
    mutationFn: (lines: ReadonlySet<number>) =>
      api<ImportAnswer>('POST', '/api/people/import', {
        ...asked,
        rows: rows.filter((row) => lines.has(row.line)),
        keep: true,
      }),
    onSuccess: (answer) => {
      changed('people');
      done(answer);
    },
    onError: tellFailure,
  });
  if (error) return <Failure error={error} />;
  if (!data) return <SkeletonRows count={5} />;
  const added = data.lines.filter((line) => line.outcome === 'added');
  const faults = data.lines.filter((line) => line.outcome === 'fault').length;
  return (
    <>
      <p className="mb-1">
        <strong>{countOf(added.length, 'person', 'people')} would be added</strong>
        {faults > 0 && <span className="import-faults">, {countOf(faults, 'line')} cannot be taken</span>}.
        {data.newGroups.length > 0 && ` New groups: ${data.newGroups.join(', ')}.`}
      </p>
      <Lines lines={data.lines} />
      <Form.Check
        id="import-groups"
        label="Make groups that are not there yet"
        checked={makeGroups}
        onChange={(e) => setMakeGroups(e.target.checked)}
      />
      <Form.Check
        id="import-mail"
        label="Send everybody their link by mail"
        checked={mail}
        onChange={(e) => setMail(e.target.checked)}
      />
      <Button
        className="mt-2"
        disabled={added.length === 0 || keep.isPending}
        onClick={() => keep.mutate(new Set(added.map((line) => line.line)))}
      >
        {faults > 0 ? `Add the ${added.length} without faults` : `Add ${countOf(added.length, 'person', 'people')}`}
      </Button>
    </>
  );
}

function Lines({ lines }: { lines: ImportAnswer['lines'] }) {
  return (
    <div className="import-lines">
      <table className="rows">
        <thead>
          <tr>
            <th className="number">Line</th>
            <th>Name</th>
            <th>What happens</th>
          </tr>
        </thead>
        <tbody>
          {lines.map(({ line, name, outcome, words }) => (
            <tr key={line} className={outcome}>
              <td className="number">{line}</td>
              <td className="first">{name || <span className="quiet">nobody</span>}</td>
              <td>{words}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Added({ answer, close }: { answer: ImportAnswer; close: () => void }) {
  return (
    <>
      {answer.invitations.map((invitation) => (
        <div key={invitation.personId} className="mb-2">
          <strong>{invitation.name}</strong>
          <InvitationNote of={invitation} />
        </div>
      ))}
      <Button onClick={close}>Done</Button>
    </>
  );
}
