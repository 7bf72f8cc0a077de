import {
  bringsFiles,
  givesFiles,
  SHARE_LEVEL_WORDS,
  SHARE_LEVELS,
  WATERMARK_WORDS,
  WATERMARKS,
  type ShareLevel,
  type Watermark,
} from '@quay/core';
import { Form, InputGroup } from 'react-bootstrap';
import type { ChosenMay } from './chosen-may';

const MEANS: Record<ShareLevel, string> = {
  view: 'They look at pictures of pages, texts and images, made here. What is on a screen can be photographed all the same.',
  download: 'They see the files and download them.',
  contribute: 'They also add files to its folders, and take back what they added themselves.',
  edit: 'They also put new versions over the files that are there. Yours stay beneath them.',
};

interface MayFieldProps {
  id: string;
  chosen: ChosenMay;
  set: (part: Partial<ChosenMay>) => void;
  fault: string | undefined;
}

/** What visitors of a share may do. */
export function MayField({ id, chosen, set, fault }: MayFieldProps) {
  const { level, seesOthers, takesField, watermark, fileLimitField = '' } = chosen;
  return (
    <div>
      <div className="choices" role="group" aria-label="What they may do">
        {SHARE_LEVELS.map((each) => (
          <button
            key={each}
            type="button"
            className="btn btn-choice"
            aria-pressed={level === each}
            onClick={() => set({ level: each })}
          >
            {SHARE_LEVEL_WORDS[each]}
          </button>
        ))}
      </div>
      <p className="quiet small mb-0 mt-1">{MEANS[level]}</p>
      {level === 'contribute' && (
        <Form.Check
          className="mt-1"
          id={`${id}-hidden`}
          label="They see only what they add themselves"
          checked={!seesOthers}
          onChange={(e) => set({ seesOthers: !e.target.checked })}
        />
      )}
      {bringsFiles({ level }) && (
        <InputGroup size="sm" className="mt-2">
          <InputGroup.Text>takes in at most</InputGroup.Text>
          <Form.Control
            aria-label="Gigabytes it takes in"
            inputMode="decimal"
            value={takesField}
            onChange={(e) => set({ takesField: e.target.value })}
          />
          <InputGroup.Text>GB in all</InputGroup.Text>
        </InputGroup>
      )}
      {level !== 'view' && (
        <InputGroup size="sm" className="mt-2">
          <InputGroup.Text id={`${id}-watermark`}>watermark</InputGroup.Text>
          <Form.Select
            aria-labelledby={`${id}-watermark`}
            value={watermark}
            onChange={(e) => set({ watermark: e.target.value as Watermark })}
          >
            {WATERMARKS.map((each) => (
              <option key={each} value={each}>
                {WATERMARK_WORDS[each]}
              </option>
            ))}
          </Form.Select>
        </InputGroup>
      )}
      {level !== 'view' && watermark !== 'none' && (
        <p className="quiet small mb-0 mt-1">
          Each copy says who took it and when, across every page. Yours stays as it is.
        </p>
      )}
      {givesFiles({ level, seesOthers }) && (
        <InputGroup size="sm" className="mt-2">
          <InputGroup.Text>each file in at most</InputGroup.Text>
          <Form.Control
            aria-label="Visits that may take each file"
            inputMode="numeric"
            placeholder="any number of"
            value={fileLimitField}
            onChange={(e) => set({ fileLimitField: e.target.value })}
          />
          <InputGroup.Text>visits</InputGroup.Text>
        </InputGroup>
      )}
      {fault && <div className="field-fault">{fault}</div>}
    </div>
  );
}
