export type Child = Node | string | null;

/** An element with attributes, listeners (on…) and children. Text is always text: nothing is parsed as HTML. */
export function h(
  tag: string,
  attributes: Record<string, string | ((event: Event) => unknown)>,
  ...children: Child[]
): HTMLElement {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (typeof value === 'function') element.addEventListener(name.slice(2), value);
    else element.setAttribute(name, value);
  }
  element.append(...children.filter((c) => c !== null));
  return element;
}
