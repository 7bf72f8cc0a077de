import type { ChangeIntake, IntakeSheet } from '@quay/contract';
import { toLocalField } from '@quay/core';
import { useState } from 'react';
import { Button } from 'react-bootstrap';
import { useJudgedAudience } from '../../ui/audience/chosen';
import { useNow, useZone } from '../../ui/session';
import { faultsOf } from './ask';
import { fieldsOf, meantBy } from './asked';
import { useFreshPassword } from '../../ui/intake-draft';
import { IntakeFieldsPart } from './fields';
import { useChangeIntake } from './queries';
import { besides, useRailsBroken } from './rails';

/** Changes an intake; what is not different is not asked for. */
export function EditIntake({ intake, done }: { intake: IntakeSheet; done: () => void }) {
  const zone = useZone();
  const present = useNow();
  const keep = useFreshPassword((s) => s.keep);
  const { mutate, isPending } = useChangeIntake(intake.id);
  const [before] = useState(() => fieldsOf(intake, (at) => (at === null ? '' : toLocalField(Date.parse(at), zone))));
  const [fields, setFields] = useState(before);
  const [isTold, setIsTold] = useState(false);
  const [refused, setRefused] = useState<Record<string, string>>({});
  const judged = useJudgedAudience(fields);
  const judgedBefore = useJudgedAudience(before);
  const { asked, faults } = meantBy(fields, judged, present, zone);
  const madeAt = Date.parse(intake.createdAt);
  const broken = useRailsBroken(fields, judged, { folderId: intake.folder?.id ?? null, madeAt });
  const save = () => {
    setIsTold(true);
    if (Object.keys(faults).length > 0) return;
    const { password, weakPasswordMeant, ...rest } = asked;
    const was = meantBy(before, judgedBefore, present, zone).asked;
    const keys = Object.keys(rest) as (keyof typeof rest)[];
    const different = keys.filter((key) => JSON.stringify(rest[key]) !== JSON.stringify(was[key]));
    const change: ChangeIntake = {
      ...Object.fromEntries(different.map((key) => [key, rest[key]])),
      ...(fields.passwordChoice !== before.passwordChoice && { password, weakPasswordMeant }),
    };
    if (Object.keys(change).length === 0) return done();
    mutate(change, {
      onSuccess: () => {
        if (change.password) keep(intake.id, change.password);
        done();
      },
      onError: (error) => setRefused(faultsOf(error)),
    });
  };
  return (
    <section>
      <IntakeFieldsPart
        fields={fields}
        set={(part) => {
          setRefused({});
          setFields({ ...fields, ...part });
        }}
        faults={isTold ? { ...faults, ...besides(refused, broken) } : {}}
        judged={judged}
        rails={broken}
        isKept={intake.hasPassword}
      />
      {refused['root'] && (
        <div className="field-fault mt-2" role="alert">
          {refused['root']}
        </div>
      )}
      <div className="verbs mt-2">
        <Button size="sm" disabled={isPending} onClick={save}>
          Save
        </Button>
        <Button size="sm" variant="plain" onClick={done}>
          Cancel
        </Button>
      </div>
    </section>
  );
}
