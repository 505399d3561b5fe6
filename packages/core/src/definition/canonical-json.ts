/** The same text for the same value, in whatever order the store gives the properties back. */
export function canonicalJson(value: unknown): string {
  return JSON.stringify(value, (_, one: unknown) =>
    typeof one === 'object' && one !== null && !Array.isArray(one)
      ? Object.fromEntries(Object.entries(one).sort(([a], [b]) => (a < b ? -1 : 1)))
      : one,
  )
}
