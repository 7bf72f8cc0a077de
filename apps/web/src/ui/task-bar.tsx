import './task-bar.scss';

/** How far long work is. */
export function TaskBar({ title, done, total }: { title: string; done: number; total: number }) {
  const fill = (bar: HTMLElement | null) => {
    if (bar) bar.style.width = `${(100 * done) / Math.max(1, total)}%`;
  };
  return (
    <span
      className="task-bar progress d-block"
      role="progressbar"
      aria-label={title}
      aria-valuenow={done}
      aria-valuemin={0}
      aria-valuemax={total}
    >
      <span className="progress-bar d-block h-100" ref={fill} />
    </span>
  );
}
