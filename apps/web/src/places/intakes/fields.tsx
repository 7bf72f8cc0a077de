import {
  CONTENT_KIND_WORDS,
  CONTENT_KINDS,
  folderName,
  folderPatternFault,
  FOLDER_PARTS,
  FOLDER_PART_WORDS,
  MOST_QUESTIONS,
  QUESTION_LENGTH,
  type Asked,
  type ContentKind,
  type RailFault,
  type RailField,
  type RailFix,
} from '@quay/core';
import { useId } from 'react';
import { Button, Form, InputGroup } from 'react-bootstrap';
import { v4 as uuid } from 'uuid';
import { AddressField } from '../../ui/address-field';
import { AudienceField } from '../../ui/audience/audience-field';
import type { JudgedAudience } from '../../ui/audience/chosen';
import {
  PasswordField,
  PasswordGuess,
  useGuessing,
  type ChosenPassword,
  type PasswordChoice,
} from '../../ui/password-field';
import { proposedPassword } from '../../ui/propose';
import { typedFix } from '../../ui/rail-fix';
import { RailFaults } from '../../ui/rail-faults';
import { now, useNow, useZone } from '../../ui/session';
import { chosenWindow } from '../../ui/window-choice';
import { WindowField } from '../../ui/window-field';
import type { IntakeFields } from '../../ui/intake-draft';
import { isByName } from './asked';
import './fields.scss';

interface FieldsProps {
  fields: IntakeFields;
  set: (part: Partial<IntakeFields>) => void;
  faults: Record<string, string>;
  judged: JudgedAudience;
  /** Guardrails that it does not keep to. */
  rails: readonly RailFault[];
  /** It has a password that can stay as it is. */
  isKept: boolean;
}

/** All that is asked for, of whom, and what becomes of it. */
export function IntakeFieldsPart(props: FieldsProps) {
  const { fields, set, faults } = props;
  const zone = useZone();
  const present = useNow();
  return (
    <div className="intake-fields">
      <Form.Group controlId="intake-title">
        <Form.Label>Title</Form.Label>
        <Form.Control
          value={fields.title}
          maxLength={120}
          placeholder="Site photographs, Weir House"
          isInvalid={Boolean(faults['title'])}
          onChange={(e) => set({ title: e.target.value })}
        />
        <Fault words={faults['title']} />
      </Form.Group>
      <Form.Group controlId="intake-message">
        <Form.Label>What you ask for, in your words</Form.Label>
        <Form.Control
          as="textarea"
          rows={2}
          value={fields.message}
          maxLength={2000}
          onChange={(e) => set({ message: e.target.value })}
        />
      </Form.Group>
      <Who {...props} />
      <section>
        <h3>When</h3>
        <WindowField
          chosen={fields}
          set={set}
          window={chosenWindow(fields, present, zone)}
          fault={faults['window.closesAt'] ?? faults['window.opensAt']}
        />
        <Rails {...props} field="window" />
      </section>
      <Password {...props} />
      <Limits {...props} />
      <Questions {...props} />
      <Becomes {...props} />
      <section>
        <h3>Address of the link</h3>
        <AddressField addressId={fields.addressId} set={set} />
        <Fault words={faults['addressId']} />
        <Rails {...props} field="address" />
      </section>
      <Rails {...props} field="may" />
      <Rails {...props} field="publisher" />
    </div>
  );
}

/** Guardrails that are not kept to, where they stand, each with the smallest change that would do. */
function Rails({ fields, set, rails, field }: FieldsProps & { field: RailField }) {
  const zone = useZone();
  const fix = (by: RailFix) => {
    if (by.change === 'password') propose(set);
    else set(typedFix(by, fields, zone) ?? {});
  };
  return <RailFaults faults={rails} field={field} fix={fix} />;
}

const propose = (set: FieldsProps['set']) =>
  void proposedPassword().then(({ password, bits }) => set({ passwordChoice: 'proposed', password, bits }));

const Fault = ({ words }: { words: string | undefined }) =>
  words ? (
    <div className="field-fault" role="alert">
      {words}
    </div>
  ) : null;

/** Who may hand something in, and whether those who are asked by name are reminded. */
function Who(props: FieldsProps) {
  const { fields, set, judged, faults } = props;
  return (
    <section>
      <h3>Who may</h3>
      <AudienceField chosen={fields} set={set} judged={judged} />
      <Fault words={faults['audience']} />
      <Rails {...props} field="audience" />
      {isByName(fields.audience) && (
        <>
          <Form.Check
            className="mt-2"
            id="intake-reminds"
            label="Write to those who have handed nothing in"
            checked={fields.reminds}
            onChange={(e) => set({ reminds: e.target.checked })}
          />
          {fields.reminds && (
            <InputGroup size="sm" className="days">
              <Form.Control
                inputMode="numeric"
                aria-label="Days before it closes"
                value={fields.remindField}
                isInvalid={Boolean(faults['remindDays'])}
                onChange={(e) => set({ remindField: e.target.value })}
              />
              <InputGroup.Text>days before it closes</InputGroup.Text>
            </InputGroup>
          )}
        </>
      )}
      <Fault words={faults['remindDays']} />
    </section>
  );
}

const OFFERED: readonly (readonly [PasswordChoice, string])[] = [
  ['none', 'None'],
  ['proposed', 'Proposed password'],
  ['typed', 'Typed'],
];

function Password(props: FieldsProps) {
  const { fields, set, faults, isKept } = props;
  const chosen: ChosenPassword = {
    ...{ choice: fields.passwordChoice, password: fields.password, bits: fields.bits, weakMeant: fields.weakMeant },
  };
  const guess = useGuessing(chosen, fields.title, fields.audience);
  const change = ({ choice, password, weakMeant }: Partial<ChosenPassword>) =>
    set({
      ...(choice !== undefined && { passwordChoice: choice }),
      ...(password !== undefined && { password }),
      ...(weakMeant !== undefined && { weakMeant }),
    });
  return (
    <section>
      <h3>Password</h3>
      <PasswordField
        chosen={chosen}
        offered={isKept ? [['kept', 'As it is'], ...OFFERED] : OFFERED}
        set={change}
        propose={() => propose(set)}
        of="intake"
      />
      <Fault words={faults['password']} />
      <Rails {...props} field="password" />
      <PasswordGuess guess={guess} chosen={chosen} set={change} />
    </section>
  );
}

const LIMITS = [
  ['fileField', 'limits.fileBytes', 'A file has at most', 'GB', 'Gigabytes of a file'],
  ['filesField', 'limits.files', 'One person at most', 'files', 'Files of one person'],
  ['eachField', 'limits.contributorBytes', 'and', 'GB', 'Gigabytes of one person'],
  ['allField', 'limits.allBytes', 'All together at most', 'GB', 'Gigabytes of all together'],
] as const;

interface KindsProps {
  /** What it is about. */
  label: string;
  kinds: readonly ContentKind[] | null;
  set: (kinds: readonly ContentKind[] | null) => void;
}

/** Any content, or some kinds of it. */
function Kinds({ label, kinds, set }: KindsProps) {
  const id = useId();
  const toggle = (kind: ContentKind, on: boolean) => {
    const others = (kinds ?? []).filter((k) => k !== kind);
    set(on ? CONTENT_KINDS.filter((k) => k === kind || others.includes(k)) : others);
  };
  return (
    <>
      <div className="choices mt-2" role="group" aria-label={label}>
        <button type="button" className="btn btn-choice" aria-pressed={kinds === null} onClick={() => set(null)}>
          Anything
        </button>
        <button
          type="button"
          className="btn btn-choice"
          aria-pressed={kinds !== null}
          onClick={() => set(kinds ?? ['picture', 'pdf'])}
        >
          Only some kinds
        </button>
      </div>
      {kinds !== null && (
        <div className="kinds mt-1">
          {CONTENT_KINDS.map((kind) => (
            <Form.Check
              key={kind}
              inline
              id={`${id}-${kind}`}
              label={CONTENT_KIND_WORDS[kind]}
              checked={kinds.includes(kind)}
              onChange={(e) => toggle(kind, e.target.checked)}
            />
          ))}
        </div>
      )}
    </>
  );
}

function Limits({ fields, set, faults }: FieldsProps) {
  return (
    <section>
      <h3>What may come</h3>
      {LIMITS.map(([field, path, before, after, label]) => (
        <div key={field} className="mb-1">
          <InputGroup size="sm">
            <InputGroup.Text className="col-6">{before}</InputGroup.Text>
            <Form.Control
              aria-label={label}
              inputMode="decimal"
              value={fields[field]}
              isInvalid={Boolean(faults[path])}
              onChange={(e) => set({ [field]: e.target.value })}
            />
            <InputGroup.Text>{after}</InputGroup.Text>
          </InputGroup>
          <Fault words={faults[path]} />
        </div>
      ))}
      <Fault words={faults['limits']} />
      <Kinds label="Kinds of content" kinds={fields.kinds} set={(kinds) => set({ kinds })} />
    </section>
  );
}

const ASKED_OF = [
  ['name', 'Their name'],
  ['mail', 'Their mail address'],
  ['firm', 'Their firm'],
] as const;
const ASKED_WORDS: Record<Asked, string> = { no: 'not asked', may: 'may be left empty', must: 'is needed' };

function Questions({ fields, set, faults }: FieldsProps) {
  const { own } = fields;
  const change = (id: string, part: { words?: string; must?: boolean }) =>
    set({ own: own.map((q) => (q.id === id ? { ...q, ...part } : q)) });
  return (
    <section>
      <h3>What is asked of them</h3>
      {ASKED_OF.map(([field, words]) => (
        <InputGroup key={field} size="sm" className="mb-1">
          <InputGroup.Text className="col-6" id={`asked-${field}`}>
            {words}
          </InputGroup.Text>
          <Form.Select
            aria-labelledby={`asked-${field}`}
            value={fields[field]}
            onChange={(e) => set({ [field]: e.target.value as Asked })}
          >
            {(Object.keys(ASKED_WORDS) as Asked[]).map((how) => (
              <option key={how} value={how}>
                {ASKED_WORDS[how]}
              </option>
            ))}
          </Form.Select>
        </InputGroup>
      ))}
      {own.map((question, i) => (
        <div key={question.id} className="mb-1">
          <InputGroup size="sm">
            <Form.Control
              aria-label={`Question ${i + 1}`}
              placeholder="Which day was it?"
              maxLength={QUESTION_LENGTH}
              value={question.words}
              isInvalid={Boolean(faults[`questions.own.${i}.words`])}
              onChange={(e) => change(question.id, { words: e.target.value })}
            />
            <InputGroup.Text>
              <Form.Check
                id={`must-${question.id}`}
                label="needed"
                checked={question.must}
                onChange={(e) => change(question.id, { must: e.target.checked })}
              />
            </InputGroup.Text>
            <Button
              variant="plain"
              aria-label={`Take question ${i + 1} off`}
              onClick={() => set({ own: own.filter((q) => q.id !== question.id) })}
            >
              <i className="bi bi-x-lg" aria-hidden />
            </Button>
          </InputGroup>
          <Fault words={faults[`questions.own.${i}.words`]} />
        </div>
      ))}
      {own.length < MOST_QUESTIONS && (
        <Button
          size="sm"
          variant="plain"
          onClick={() => set({ own: [...own, { id: uuid(), words: '', must: false }] })}
        >
          Add a question
        </Button>
      )}
      <Form.Check
        className="mt-2"
        id="receipt-by-mail"
        label="Whoever leaves a mail address gets the receipt there"
        checked={fields.receiptByMail}
        onChange={(e) => set({ receiptByMail: e.target.checked })}
      />
    </section>
  );
}

/** What goes straight in, where nothing has to wait. */
function Straight({ fields, set, faults }: FieldsProps) {
  return (
    <div className="mt-1">
      <p className="quiet small mb-1">What is not what its name says, or cannot be told, waits all the same.</p>
      <Form.Check
        id="straight-some"
        label="Only some of it does, the rest waits"
        checked={fields.straightSome}
        onChange={(e) => set({ straightSome: e.target.checked })}
      />
      {fields.straightSome && (
        <>
          <Kinds
            label="Kinds that go straight in"
            kinds={fields.straightKinds}
            set={(straightKinds) => set({ straightKinds })}
          />
          <InputGroup size="sm" className="mt-1">
            <InputGroup.Text className="col-6">A file has at most</InputGroup.Text>
            <Form.Control
              aria-label="Megabytes of a file that goes straight in"
              inputMode="decimal"
              placeholder="any"
              value={fields.straightField}
              isInvalid={Boolean(faults['straight.fileBytes'])}
              onChange={(e) => set({ straightField: e.target.value })}
            />
            <InputGroup.Text>MB</InputGroup.Text>
          </InputGroup>
          {fields.audience !== 'anyone' && (
            <Form.Check
              className="mt-1"
              id="straight-proven"
              label="Only from those who have proven who they are"
              checked={fields.provenOnly}
              onChange={(e) => set({ provenOnly: e.target.checked })}
            />
          )}
          <Fault words={faults['straight.fileBytes'] ?? faults['straight']} />
        </>
      )}
    </div>
  );
}

function Becomes(props: FieldsProps) {
  const { fields, set, faults } = props;
  const zone = useZone();
  const isPattern = folderPatternFault(fields.folderPattern) === null;
  const said = {
    name: fields.name === 'no' ? '' : 'Zoe Calder',
    firm: fields.firm === 'no' ? '' : 'Brookline Surveys',
  };
  return (
    <section>
      <h3>What becomes of it</h3>
      <div className="choices" role="group" aria-label="What becomes of it">
        <button
          type="button"
          className="btn btn-choice"
          aria-pressed={fields.waits}
          onClick={() => set({ waits: true })}
        >
          It waits until somebody accepts it
        </button>
        <button
          type="button"
          className="btn btn-choice"
          aria-pressed={!fields.waits}
          onClick={() => set({ waits: false })}
        >
          It goes straight in
        </button>
      </div>
      {!fields.waits && <Straight {...props} />}
      <Form.Check
        className="mt-2"
        id="own-folders"
        label="Each person gets a folder"
        checked={fields.hasFolders}
        onChange={(e) => set({ hasFolders: e.target.checked })}
      />
      {fields.hasFolders && (
        <>
          <Form.Control
            size="sm"
            className="mono"
            aria-label="How the folder of each person is called"
            value={fields.folderPattern}
            maxLength={120}
            isInvalid={Boolean(faults['folderPattern'])}
            onChange={(e) => set({ folderPattern: e.target.value })}
          />
          <div className="chips mt-1">
            {FOLDER_PARTS.map((part) => (
              <button
                key={part}
                type="button"
                className="btn btn-plain btn-sm"
                title={FOLDER_PART_WORDS[part]}
                onClick={() => set({ folderPattern: `${fields.folderPattern} {{${part}}}`.trim() })}
              >
                {`{{${part}}}`}
              </button>
            ))}
          </div>
          <Fault words={faults['folderPattern']} />
          {isPattern && (
            <div className="quiet small">
              as in{' '}
              <span className="mono">
                {folderName(fields.folderPattern, { at: now(), ...said, number: 'D-7K3M-9QXT' }, zone)}
              </span>
            </div>
          )}
        </>
      )}
    </section>
  );
}
