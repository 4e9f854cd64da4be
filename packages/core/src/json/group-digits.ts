/** Writes a whole number with a comma between groups of three digits, the same on every machine. */
export function groupDigits(number: number): string {
  return String(number).replace(/\B(?=(\d{3})+$)/g, ',');
}
