import type { ReactNode } from 'react';
import './sheet.scss';

/** A panel beside a list, about what was chosen in it. */
export const Sheet = ({ label, children }: { label?: string; children: ReactNode }) => (
  <aside className="sheet" aria-label={label}>
    {children}
  </aside>
);

/** The line at the top of a sheet: what it is about, what is said beside it, and the way out. */
export const SheetHead = ({ title, children, close }: { title: string; children?: ReactNode; close: () => void }) => (
  <div className="d-flex align-items-start gap-2 mb-2">
    <h2>{title}</h2>
    <span className="text-nowrap ms-auto">{children}</span>
    <button type="button" className="btn btn-sm p-0 px-1" aria-label="Close the sheet" onClick={close}>
      <i className="bi bi-x-lg" aria-hidden />
    </button>
  </div>
);

/** A list, with a sheet beside it where there is one; on a telephone over it. */
export const WithSheet = ({ sheet, children }: { sheet: ReactNode; children: ReactNode }) => (
  <div className={sheet ? 'sheet-layout with-sheet' : 'sheet-layout'}>
    <div>{children}</div>
    {sheet}
  </div>
);
