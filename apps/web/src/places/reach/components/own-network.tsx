import type { ReachNetwork } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Failure, SkeletonRows } from '../../../ui/states';
import { networkQuery } from '../queries';

const WHENCE = { file: 'as the file says', machine: 'found by itself', nobody: 'not known' } as const;
const DOOR = { tls: 'Encrypted door', plain: 'Plain door' } as const;

/** How the server stands in its network, and where each value is known from. */
export function OwnNetwork() {
  const { data, error, refetch } = useQuery(networkQuery);
  if (error) return <Failure error={error} again={() => void refetch()} />;
  if (!data) return <SkeletonRows count={3} />;
  return (
    <div>
      <h2 className="small-head">This server in its network</h2>
      <p className="mb-1">{data.advice.words}</p>
      <dl className="facts mb-1">
        <Fact name="Router" value={data.gateway} whence={WHENCE[data.gatewayFrom]} />
        <Fact name="This server" value={data.insideAddress} whence={WHENCE[data.insideFrom]} />
        <Fact
          name="The line"
          value={data.publicAddress}
          whence={data.publicAddress ? 'as the world sees it' : 'not known'}
        />
        {data.doors.map((door) => (
          <Door key={`${door.kind} ${door.port}`} door={door} />
        ))}
      </dl>
      {data.doors.length === 0 && <p className="needs-hand">No door is open, so nobody comes in from outside.</p>}
    </div>
  );
}

function Fact({ name, value, whence }: { name: string; value: string | null; whence: string }) {
  return (
    <div className="d-contents">
      <dt>{name}</dt>
      <dd>
        {value && <span className="mono">{value}</span>} <span className="quiet">{whence}</span>
      </dd>
    </div>
  );
}

function Door({ door }: { door: ReachNetwork['doors'][number] }) {
  return (
    <div className="d-contents">
      <dt>{DOOR[door.kind]}</dt>
      <dd>
        <span className="mono">{door.port}</span>{' '}
        {door.fault ? <span className="needs-hand">{door.fault}</span> : <span className="quiet">open</span>}
      </dd>
    </div>
  );
}
