import type { ReactNode } from 'react';
import { useSignOut } from './sign-out';
import './alone.scss';

/** All that is open to somebody who is signed in and has to do something first. @param isLast there is no way out of it */
export function Alone({ title, children, isLast = false }: { title: string; children: ReactNode; isLast?: boolean }) {
  const signOut = useSignOut();
  return (
    <main className="alone">
      <h1 className="h4">{title}</h1>
      {children}
      {!isLast && (
        <button type="button" className="link mt-3" onClick={() => void signOut()}>
          Sign out
        </button>
      )}
    </main>
  );
}
