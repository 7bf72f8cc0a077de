import { useEffect, useRef, useState, type RefObject } from 'react';

/** The width of an element, kept up to date. */
export function useWidth(): [RefObject<HTMLDivElement | null>, number] {
  const element = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    if (!element.current) return;
    const observer = new ResizeObserver(([entry]) => setWidth(Math.floor(entry?.contentRect.width ?? 0)));
    observer.observe(element.current);
    return () => observer.disconnect();
  }, []);
  return [element, width];
}

let context: CanvasRenderingContext2D | null = null;
const FONT = "12.5px 'Atkinson Hyperlegible Next Variable', system-ui, sans-serif";

/** As much of a text as fits a width, with an ellipsis where it was cut; '' when nothing useful does. */
export function fitted(text: string, width: number, bold: boolean): { text: string; width: number } {
  context ??= document.createElement('canvas').getContext('2d');
  if (!context || width < 14) return { text: '', width: 0 };
  context.font = bold ? `600 ${FONT}` : FONT;
  const measure = (part: string) => context?.measureText(part).width ?? 0;
  const full = measure(text);
  if (full <= width) return { text, width: full };
  if (!bold) return { text: '', width: 0 };
  let kept = text;
  while (kept.length > 1 && measure(`${kept}…`) > width) kept = kept.slice(0, -1).trimEnd();
  return kept.length > 2 ? { text: `${kept}…`, width: measure(`${kept}…`) } : { text: '', width: 0 };
}
