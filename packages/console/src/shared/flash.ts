/** How an element shows a change: a changed cell, a new row, a written collection. */
type Flash = 'changed' | 'entered' | 'activity';

const still = matchMedia('(prefers-reduced-motion: reduce)');

/** Lets an element light up once. Several calls in a row start it over. */
export function flash(element: Element | null | undefined, kind: Flash): void {
  if (!element || still.matches) return;
  for (const running of element.getAnimations()) running.cancel();
  if (kind === 'activity') {
    element.animate([{ opacity: 1 }, { opacity: 0 }], { duration: 900, easing: 'ease-out' });
    return;
  }
  const colour = kind === 'changed' ? 'var(--changed-soft)' : 'var(--live-soft)';
  element.animate(
    [{ backgroundColor: colour }, { backgroundColor: colour, offset: 0.3 }, { backgroundColor: 'transparent' }],
    {
      duration: 1400,
      easing: 'ease-out',
    },
  );
}
