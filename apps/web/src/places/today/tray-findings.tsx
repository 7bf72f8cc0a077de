import type { IntakeRow } from '@quay/contract';
import { countOf } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { intakesQuery } from '../../ui/queries';
import { useMe } from '../../ui/session';
import { When } from '../../ui/words';

const NONE: IntakeRow[] = [];

/** Intakes that whoever looks sees; none to those who may ask nobody for files. */
export function useIntakes(): IntakeRow[] {
  const me = useMe();
  const { data } = useQuery({ ...intakesQuery, enabled: me.duties.includes('ask-outside') });
  return data?.intakes ?? NONE;
}

/** Something waits there. */
export function TrayFindings({ found }: { found: IntakeRow[] }) {
  return found.map(({ id, title, waiting, lastAt }) => (
    <div key={id} className="finding">
      <span className="flag" />
      <div>
        <Link className="fw-semibold link-body-emphasis text-decoration-none" to={`/intakes/${id}`}>
          {countOf(waiting, 'deposit')} {waiting === 1 ? 'waits' : 'wait'}: {title}
        </Link>
        {lastAt && (
          <div className="quiet small">
            The last came <When at={lastAt} brief />
          </div>
        )}
      </div>
      <Link className="btn btn-plain btn-sm" to={`/intakes/${id}`}>
        Look
      </Link>
    </div>
  ));
}
