import { intakeSentence } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useState } from 'react';
import { Button } from 'react-bootstrap';
import { useNavigate } from 'react-router';
import { ApiProblem } from '../../ui/api';
import { useJudgedAudience } from '../../ui/audience/chosen';
import { Sheet, SheetHead } from '../../ui/sheet';
import { useSearch } from '../../ui/search';
import { useNow, useZone } from '../../ui/session';
import { Sentence } from '../../ui/words';
import { chosenWindow } from '../../ui/window-choice';
import { meantBy } from './asked';
import { useFreshPassword, useIntakeDraft } from '../../ui/intake-draft';
import { IntakeFieldsPart } from './fields';
import { folderNameQuery, useAskForFiles } from './queries';
import { besides, useRailsBroken } from './rails';

const FolderChooser = lazy(async () => ({ default: (await import('../stores/folder-chooser')).FolderChooser }));

/** A new intake, put together beside the list. */
export function AskForFiles({ close }: { close: () => void }) {
  const navigate = useNavigate();
  const zone = useZone();
  const present = useNow();
  const { fields, folder, set, clear } = useIntakeDraft();
  const keep = useFreshPassword((s) => s.keep);
  const { mutate, isPending } = useAskForFiles();
  const [isTold, setIsTold] = useState(false);
  const [refused, setRefused] = useState<Record<string, string>>({});
  const judged = useJudgedAudience(fields);
  const { asked, faults } = meantBy(fields, judged, present, zone);
  const broken = useRailsBroken(fields, judged, { folderId: folder?.id ?? null, madeAt: null });
  const isSound = Object.keys(faults).length === 0 && broken.length === 0 && folder !== null;
  const ask = () => {
    setIsTold(true);
    if (!isSound) return;
    mutate(
      { ...asked, folderId: folder.id },
      {
        onSuccess: (sheet) => {
          if (asked.password !== null) keep(sheet.id, asked.password);
          clear();
          void navigate(`/intakes/${sheet.id}`);
        },
        onError: (error) => setRefused(faultsOf(error)),
      },
    );
  };
  const { limits, waits, straight = null, password } = asked;
  return (
    <Sheet label="Ask for files">
      <SheetHead title="Ask for files" close={close} />
      <Into isTold={isTold} />
      <IntakeFieldsPart
        fields={fields}
        set={(part) => {
          setRefused({});
          set(part);
        }}
        faults={isTold ? { ...faults, ...besides(refused, broken) } : {}}
        judged={judged}
        rails={broken}
        isKept={false}
      />
      <section>
        <h3>What it lets happen</h3>
        <Sentence
          parts={intakeSentence(
            {
              audience: judged.terms,
              ...{
                limits,
                waits,
                straight,
                hasPassword: password !== null,
                window: chosenWindow(fields, present, zone),
              },
            },
            present,
            zone,
          )}
        />
        {refused['root'] && (
          <div className="field-fault mb-2" role="alert">
            {refused['root']}
          </div>
        )}
        {isTold && !isSound && (
          <div className="field-fault mb-2" role="alert">
            Something above is not right yet.
          </div>
        )}
        <Button disabled={isPending} onClick={ask}>
          Open the intake
        </Button>
      </section>
    </Sheet>
  );
}

/** The folder that what is accepted goes into. */
function Into({ isTold }: { isTold: boolean }) {
  const { folder, into } = useIntakeDraft();
  const [isChoosing, setIsChoosing] = useState(false);
  useFolderOfAddress(into);
  return (
    <>
      <div className="d-flex gap-2 align-items-center mb-2">
        <span className="text-truncate">
          {folder ? (
            <>
              into <i className="bi bi-folder quiet" aria-hidden /> <strong>{folder.name}</strong>
            </>
          ) : (
            'Where does it go?'
          )}
        </span>
        <Button size="sm" variant="plain" className="ms-auto text-nowrap" onClick={() => setIsChoosing(true)}>
          {folder ? 'Another folder' : 'Choose a folder'}
        </Button>
      </div>
      {isTold && !folder && (
        <div className="field-fault mb-2" role="alert">
          Choose the folder that it goes into.
        </div>
      )}
      {isChoosing && (
        <Suspense>
          <FolderChooser
            title="Where what is handed in goes"
            verb="Into"
            startId={folder?.id ?? null}
            choose={(chosen) => {
              into(chosen);
              setIsChoosing(false);
            }}
            close={() => setIsChoosing(false)}
          />
        </Suspense>
      )}
    </>
  );
}

/** The folder that the address names, as when it was asked for in a folder. */
function useFolderOfAddress(into: (folder: { id: string; name: string }) => void): void {
  const [params] = useSearch();
  const id = params.get('folder');
  const { data } = useQuery({ ...folderNameQuery(id ?? ''), enabled: id !== null });
  useEffect(() => {
    if (data) into(data);
  }, [data, into]);
}

/** What was refused, by the fields that it names; else of the whole. */
export function faultsOf(error: Error): Record<string, string> {
  const named = error instanceof ApiProblem ? (error.body.errors ?? []) : [];
  if (named.length === 0) return { root: error.message };
  return Object.fromEntries(named.map(({ field, detail }) => [field, detail]));
}
