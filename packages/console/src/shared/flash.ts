/** How an element shows a change: a changed cell, a new row, a written collection. */
type Flash = 'changed' | 'entered' | 'activity';

const still = matchMedia('(prefers-reduced-motion: reduce)');

/** With more than this many lights at once, new ones are short: each is painted anew with every frame. */
const MANY = 24;
const running = new Map<Element, Animation>();

/** Lets an element light up once. Several calls in a row start it over. */
export function flash(element: Element | null | undefined, kind: Flash): void {
  if (!element || still.matches) return;
  running.get(element)?.cancel();
  const short = running.size >= MANY;
  const animation =
    kind === 'activity'
      ? element.animate([{ opacity: 1 }, { opacity: 0 }], { duration: 900, easing: 'ease-out' })
      : light(element, kind === 'changed' ? 'var(--changed-soft)' : 'var(--live-soft)', short ? 300 : 1400);
  running.set(element, animation);
  const forget = () => {
    if (running.get(element) === animation) running.delete(element);
  };
  animation.addEventListener('finish', forget);
  animation.addEventListener('cancel', forget);
  // An element that is taken away ends its animation without an event in some browsers.
  if (running.size > 20 * MANY) for (const one of running.keys()) if (!one.isConnected) running.delete(one);
}

/** A few steps are painted, not every shade between. */
function light(element: Element, colour: string, duration: number): Animation {
  return element.animate(
    [{ backgroundColor: colour }, { backgroundColor: colour, offset: 0.3 }, { backgroundColor: 'transparent' }],
    { duration, easing: duration > 300 ? 'steps(14, end)' : 'steps(2, end)' },
  );
}
