/** A value as a condition has it. */
export function formatCql2(value: string | number | boolean): string {
  return typeof value === 'string' ? `'${value.replaceAll("'", "''")}'` : String(value).toUpperCase();
}
