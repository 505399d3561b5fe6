/** Letters and digits alone: `E-mail`, `email` and `E_MAIL` are the same. */
export function plainName(name: string): string {
  return name.toLowerCase().replace(/[^\p{L}\p{N}]/gu, '')
}
