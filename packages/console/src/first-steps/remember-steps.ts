import { ref, readonly } from 'vue';

const ITEM = 'uproar-first-steps';
const open = ref(localStorage.getItem(ITEM) === 'open');

/** Whether the first steps were begun in this browser and are not all done, so that the navigation leads to them. */
export const stepsAreOpen = readonly(open);

/** Remembers whether there are steps to take. */
export function rememberSteps(isOpen: boolean): void {
  open.value = isOpen;
  if (isOpen) localStorage.setItem(ITEM, 'open');
  else localStorage.removeItem(ITEM);
}
