import type { PlannedLine, WayCompared, WayIn } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Form } from 'react-bootstrap';
import { Link } from 'react-router';
import { useSearch } from '../../ui/search';
import { Failure, SkeletonRows } from '../../ui/states';
import { StageShape } from '../../ui/stage-shape';
import { compareQuery } from './queries';
import './plan.scss';

const LINE: Record<PlannedLine['line'], string> = {
  own: 'a public address of its own',
  shared: 'an address that many customers share',
  'behind-router': 'another router in front of ours',
};
const ROUTER: Record<PlannedLine['router'], string> = {
  protocol: 'opens ports when a program asks',
  'by-hand': 'opens ports on its own pages',
  closed: 'opens nothing',
};
const WAYS: Record<WayIn, string> = {
  mapping: 'Own address, port opened on the router',
  fixed: 'Fixed public address',
  relay: 'Through a relay',
  office: 'Office only',
};

/** What would work on a line, before anything is bought: the same trace, for facts typed in by hand. */
export function ReachPlan() {
  const [params, changeAddress] = useSearch();
  const planned = plannedFrom(params);
  const { data, error } = useQuery(compareQuery(planned));
  const set = (change: Partial<Record<keyof PlannedLine, string>>) => changeAddress(change, { replace: true });
  const best = data?.[0];
  return (
    <>
      <div className="title-line">
        <h1>{best ? `On this line: ${WAYS[best.wayIn].toLowerCase()}.` : 'What would work?'}</h1>
        <div className="tools">
          <Link to="/reach" className="btn btn-plain">
            Back to Reach
          </Link>
        </div>
      </div>
      <div className="plan-form">
        <Choice id="line" label="The line has" value={planned.line} words={LINE} set={(line) => set({ line })} />
        <Choice
          id="router"
          label="The router"
          value={planned.router}
          words={ROUTER}
          set={(router) => set({ router })}
        />
        <Amount id="uploadMbit" label="Upload, Mbit/s" value={planned.uploadMbit} set={(v) => set({ uploadMbit: v })} />
        <Amount id="relayMbit" label="Relay, Mbit/s" value={planned.relayMbit} set={(v) => set({ relayMbit: v })} />
        <Form.Check
          type="switch"
          id="fixed"
          label="The address stays the same"
          checked={planned.fixed}
          onChange={(e) => set({ fixed: String(e.target.checked) })}
        />
        <Form.Check
          type="switch"
          id="domain"
          label="We have a name whose records we can change"
          checked={planned.domain}
          onChange={(e) => set({ domain: String(e.target.checked) })}
        />
      </div>
      {error ? <Failure error={error} /> : !data ? <SkeletonRows count={4} /> : <PlanTable ways={data} />}
    </>
  );
}

function PlanTable({ ways }: { ways: WayCompared[] }) {
  return (
    <table className="table plain-table plan-table">
      <thead>
        <tr>
          <th scope="col">Way in</th>
          <th scope="col">For outsiders</th>
          <th scope="col" className="text-nowrap">
            100 MB take
          </th>
          <th scope="col">Depends on</th>
          <th scope="col">Opens</th>
          <th scope="col">Upkeep</th>
        </tr>
      </thead>
      <tbody>
        {ways.map((w) => (
          <tr key={w.wayIn}>
            <th scope="row">
              <StageShape mark={w.wayIn === 'office' ? 'skipped' : w.works ? 'ok' : 'fail'} /> {WAYS[w.wayIn]}
            </th>
            <td>
              {w.works && w.wayIn !== 'office' ? 'works' : w.because}
              {!w.works && w.remedies.length > 0 && (
                <ul className="small quiet mb-0">
                  {w.remedies.map((r) => (
                    <li key={r.words}>{r.words}</li>
                  ))}
                </ul>
              )}
            </td>
            <td>{w.works && w.secondsFor100Mb !== null ? `${w.secondsFor100Mb} s` : '–'}</td>
            <td>{w.dependsOn}</td>
            <td>{w.exposes}</td>
            <td>{w.upkeep}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Choice<T extends string>({
  id,
  label,
  value,
  words,
  set,
}: {
  id: string;
  label: string;
  value: T;
  words: Record<T, string>;
  set: (value: T) => void;
}) {
  return (
    <Form.Group controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Select value={value} onChange={(e) => set(e.target.value as T)}>
        {(Object.entries(words) as [T, string][]).map(([key, text]) => (
          <option key={key} value={key}>
            {text}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  );
}

function Amount({ id, label, value, set }: { id: string; label: string; value: number; set: (value: string) => void }) {
  return (
    <Form.Group controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Control type="number" min={0.1} step="any" value={value} onChange={(e) => set(e.target.value)} />
    </Form.Group>
  );
}

function plannedFrom(params: URLSearchParams): PlannedLine {
  const choice = <T extends string>(name: string, words: Record<T, string>, otherwise: T): T =>
    (Object.keys(words) as T[]).find((k) => k === params.get(name)) ?? otherwise;
  const amount = (name: string, otherwise: number) => {
    const value = Number(params.get(name) ?? otherwise);
    return value >= 0.1 && value <= 100_000 ? value : otherwise;
  };
  return {
    line: choice('line', LINE, 'own'),
    router: choice('router', ROUTER, 'protocol'),
    fixed: params.get('fixed') === 'true',
    domain: params.get('domain') !== 'false',
    uploadMbit: amount('uploadMbit', 40),
    relayMbit: amount('relayMbit', 100),
  };
}
