import { Button } from 'react-bootstrap';
import { saveText } from '../save-text';
import { useMe } from '../session';

interface Props {
  codes: string[];
  /** They are kept somewhere, and not shown again. */
  kept: () => void;
}

/** The codes for recovery, the one time they are shown. */
export function RecoveryCodeList({ codes, kept }: Props) {
  const { name, office } = useMe();
  const save = () =>
    saveText(
      'recovery-codes.txt',
      `${office.name}: recovery codes of ${name}, each good once\n\n${codes.join('\n')}\n`,
    );
  return (
    <div className="recovery">
      <p role="status">
        <strong>Your recovery codes.</strong> Each opens once, in place of a code, when the telephone is lost. Keep them
        away from it: they are not shown again.
      </p>
      <ol className="mono">
        {codes.map((code) => (
          <li key={code}>{code}</li>
        ))}
      </ol>
      <div className="d-flex gap-2">
        <Button variant="plain" onClick={save}>
          Save them as a file
        </Button>
        <Button onClick={kept}>I have kept them</Button>
      </div>
    </div>
  );
}
