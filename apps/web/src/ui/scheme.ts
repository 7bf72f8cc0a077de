import { create } from 'zustand';
import { persist } from 'zustand/middleware';

export type Scheme = 'system' | 'light' | 'dark';

export const useScheme = create<{ scheme: Scheme; choose: (scheme: Scheme) => void }>()(
  persist((set) => ({ scheme: 'system', choose: (scheme) => set({ scheme }) }), { name: 'quay-scheme' }),
);

/** Applies the chosen scheme, and follows the system while that is the choice. */
export function followScheme(): void {
  const system = window.matchMedia('(prefers-color-scheme: dark)');
  const apply = () => {
    const { scheme } = useScheme.getState();
    document.documentElement.dataset['bsTheme'] = scheme === 'system' ? (system.matches ? 'dark' : 'light') : scheme;
  };
  apply();
  system.addEventListener('change', apply);
  useScheme.subscribe(apply);
}
