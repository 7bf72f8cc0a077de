import { momentInWords, PRESET_WORDS, toLocalField, WINDOW_PRESETS, type Window } from '@quay/core';
import { Form, InputGroup } from 'react-bootstrap';
import { useNow, useZone } from './session';
import type { ChosenWindow } from './window-choice';
import { WindowLine } from './window-line';

/** Chooses when something is open: presets, or two moments of one's own, drawn on a tiny time line. */
export function WindowField({
  chosen,
  set,
  window,
  fault,
}: {
  chosen: ChosenWindow;
  set: (part: Partial<ChosenWindow>) => void;
  window: Window;
  fault: string | undefined;
}) {
  const zone = useZone();
  const present = useNow();
  const custom = () =>
    set({
      choice: 'custom',
      closesField: chosen.closesField || (window.closesAt === null ? '' : toLocalField(window.closesAt, zone)),
    });
  return (
    <div>
      <div className="choices" role="group" aria-label="Window">
        {WINDOW_PRESETS.map((preset) => (
          <button
            key={preset}
            type="button"
            className="btn btn-choice"
            aria-pressed={chosen.choice === preset}
            onClick={() => set({ choice: preset })}
          >
            {PRESET_WORDS[preset]}
          </button>
        ))}
        <button type="button" className="btn btn-choice" aria-pressed={chosen.choice === 'custom'} onClick={custom}>
          Custom
        </button>
      </div>
      {chosen.choice === 'custom' && (
        <div className="mt-2 d-grid gap-1">
          <InputGroup size="sm">
            <InputGroup.Text className="col-3">opens</InputGroup.Text>
            <Form.Control
              type="datetime-local"
              aria-label="Opens at"
              value={chosen.opensField}
              onChange={(e) => set({ opensField: e.target.value })}
            />
          </InputGroup>
          <InputGroup size="sm">
            <InputGroup.Text className="col-3">closes</InputGroup.Text>
            <Form.Control
              type="datetime-local"
              aria-label="Closes at"
              value={chosen.closesField}
              isInvalid={Boolean(fault)}
              onChange={(e) => set({ closesField: e.target.value })}
            />
          </InputGroup>
          <span className="quiet small">An empty field: open from now, open without end.</span>
        </div>
      )}
      {fault ? (
        <div className="field-fault">{fault}</div>
      ) : (
        <>
          <WindowLine window={window} now={present} />
          <div className="quiet small">
            {window.closesAt === null
              ? 'stays open until somebody closes it'
              : `closes ${momentInWords(window.closesAt, present, zone)}`}
          </div>
        </>
      )}
    </div>
  );
}
