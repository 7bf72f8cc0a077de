import type { UsagePart } from '@quay/contract';
import { countOf, formatExactBytes, formatSize } from '@quay/core';
import { hierarchy, treemap, treemapSquarify, type HierarchyRectangularNode } from 'd3';
import { useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';
import './treemap.scss';

const HEIGHT = 300;
const HEAD = 20;

/** Storage by folder as a treemap: area is bytes. Earlier versions and trash are parts of their own, hatched. */
export function Treemap({ tree, storeId }: { tree: UsagePart; storeId: string }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(1200);
  const [within, setWithin] = useState<string[]>([]);
  const navigate = useNavigate();
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const shown = within.reduce<UsagePart>((part, id) => part.children.find((c) => c.id === id) ?? part, tree);
  if (tree.bytes === 0) return <p className="quiet">Nothing is stored here yet.</p>;
  const root = treemap<UsagePart>()
    .tile(treemapSquarify)
    .size([width, HEIGHT])
    .paddingInner(2)
    .paddingTop((n) => (n.depth === 1 && n.children ? HEAD : 0))
    .round(true)(
    hierarchy(twoLevels(shown), (p) => p.children)
      .sum((p) => (p.children.length === 0 ? p.bytes : 0))
      .sort((a, b) => (b.value ?? 0) - (a.value ?? 0)),
  );
  const parts = root.descendants().filter((n) => n.depth > 0);
  const open = (part: UsagePart) => {
    const real = shown.children.find((c) => c.id === part.id);
    if (part.kind === 'trash') void navigate(`/stores/${storeId}/trash`);
    else if (real && real.children.length > 0) setWithin([...within, part.id]);
    else if (part.kind === 'folder') void navigate(`/stores/${part.id}`);
    else if (part.kind === 'files') void navigate(`/stores/${part.id.replace(/-files$/, '')}`);
  };
  return (
    <div ref={box} className="treemap">
      <nav aria-label="Place in the chart" className="treemap-path">
        {[
          tree,
          ...within.map((_, i) =>
            within.slice(0, i + 1).reduce<UsagePart>((p, id) => p.children.find((c) => c.id === id) ?? p, tree),
          ),
        ].map((p, i, all) =>
          i === all.length - 1 ? (
            <strong key={p.id}>
              {p.name} <span className="quiet">{formatSize(p.bytes)}</span>
            </strong>
          ) : (
            <span key={p.id}>
              <button type="button" className="link" onClick={() => setWithin(within.slice(0, i))}>
                {p.name}
              </button>{' '}
              /{' '}
            </span>
          ),
        )}
      </nav>
      <div
        className="treemap-field"
        role="list"
        aria-label={`What fills ${shown.name}`}
        ref={(e) => void (e && (e.style.height = `${HEIGHT}px`))}
      >
        {parts.map((node) => (
          <Cell key={`${node.depth} ${node.data.id}`} node={node} total={shown.bytes} open={open} />
        ))}
      </div>
    </div>
  );
}

function Cell({
  node,
  total,
  open,
}: {
  node: HierarchyRectangularNode<UsagePart>;
  total: number;
  open: (part: UsagePart) => void;
}) {
  const { data: part, x0, x1, y0, y1, depth } = node;
  const share = `${((100 * part.bytes) / Math.max(1, total)).toFixed(part.bytes / total < 0.01 ? 1 : 0)} %`;
  const rest = `${countOf(part.files, part.kind === 'versions' ? 'version' : 'file')}, ${share}`;
  const inner = node.children !== undefined;
  const place = (element: HTMLElement | null) => {
    if (!element) return;
    element.style.left = `${x0}px`;
    element.style.top = `${y0}px`;
    element.style.width = `${x1 - x0}px`;
    element.style.height = `${y1 - y0}px`;
  };
  const room = x1 - x0 > 46 && y1 - y0 > 16;
  return (
    <div role="listitem" ref={place} className={`cell depth-${depth} ${part.kind}${inner ? ' inner' : ''}`}>
      <button
        type="button"
        title={`${part.name}: ${formatSize(part.bytes)}, ${rest} (${formatExactBytes(part.bytes)})`}
        onClick={() => open(part)}
        tabIndex={depth === 1 ? 0 : -1}
      >
        <span className={room ? 'cell-name' : 'visually-hidden'}>{part.name}</span>{' '}
        <span className={room && (y1 - y0 > 34 || inner) ? 'cell-size' : 'visually-hidden'}>
          {formatSize(part.bytes)}
        </span>{' '}
        <span className="visually-hidden">{rest}</span>
      </button>
    </div>
  );
}

/** The part and two levels below it: more does not read. */
function twoLevels(part: UsagePart, depth = 0): UsagePart {
  return { ...part, children: depth >= 2 ? [] : part.children.map((c) => twoLevels(c, depth + 1)) };
}
