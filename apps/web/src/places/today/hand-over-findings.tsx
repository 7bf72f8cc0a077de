import type { HandOverFinding } from '@quay/contract';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { When } from '../../ui/words';
import { needingHandOversQuery } from '../../ui/queries';

/** What one handed over that needs a hand; null: it is not known yet. */
export function useHandOverFindings(): HandOverFinding[] | null {
  const { data } = useQuery(needingHandOversQuery);
  return data ?? null;
}

/** Links that did not arrive, and passwords that went the same way as theirs. */
export function HandOverFindings({ found }: { found: HandOverFinding[] | null }) {
  return found?.map((finding) => {
    const didNotArrive = finding.kind === 'not-arrived';
    return (
      <div key={finding.handOverId} className="finding">
        <span className={didNotArrive ? 'flag harm' : 'flag'} />
        <div>
          <Link className="fw-semibold link-body-emphasis text-decoration-none" to={`/shares/${finding.shareId}`}>
            {didNotArrive
              ? `${finding.recipient} did not get ${finding.title}`
              : `Link and password of ${finding.title} went the same way`}
          </Link>
          <div className="quiet small">
            {didNotArrive ? finding.words : `To ${finding.recipient}; whoever reads one reads the other.`}
            {', '}
            <When at={finding.at} brief />
          </div>
        </div>
        <Link className="btn btn-plain btn-sm" to={`/shares/${finding.shareId}`}>
          {didNotArrive ? 'Correct the address' : 'Set another password'}
        </Link>
      </div>
    );
  });
}
