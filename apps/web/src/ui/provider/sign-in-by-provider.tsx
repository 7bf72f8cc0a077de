import { PROVIDER_WORDS } from '@quay/core';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { keepFocus } from '../form';
import { signInWaysQuery } from '../queries';

/** Goes to the identity provider of the office, and says why it was in vain. @param back where somebody was going */
export function SignInByProvider({ back }: { back: string }) {
  const { data } = useQuery(signInWaysQuery);
  const [params] = useSearchParams();
  const refused = params.get('refused');
  const words = Object.entries(PROVIDER_WORDS).find(([code]) => code === refused)?.[1];
  if (!data?.provider) return null;
  return (
    <>
      <a
        className="btn btn-plain w-100"
        href={`/api/sign-in/provider?back=${encodeURIComponent(back)}`}
        onMouseDown={keepFocus}
      >
        Sign in by {data.provider.name}
      </a>
      {words && (
        <p className="field-fault mb-0" role="alert">
          {data.provider.name}: {words}
        </p>
      )}
    </>
  );
}
