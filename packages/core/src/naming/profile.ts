/** The habits of a target about names, set on its connection. */
export interface NamingProfile {
  /** What the target makes of letters: nothing, all upper case, all lower case. */
  fold: 'none' | 'upper' | 'lower'
  /**
   * `word`: letters, digits and underscores, not beginning with a digit. `bmp`: any that Unicode had before its planes
   * (up to U+FFFF), and no space at the end.
   */
  allowed: 'any' | 'word' | 'bmp'
  /** In characters. */
  maxLength: number
  /** In bytes of UTF-8, where the target counts those. */
  maxBytes?: number
}

/** A name as the target would have it, or the reason why it will not take it. */
export type NamingResult = { name: string } | { name: string; refused: string }

/** A name in the case that the target makes of it. */
export function foldName(name: string, { fold }: Pick<NamingProfile, 'fold'>): string {
  return fold === 'upper' ? name.toUpperCase() : fold === 'lower' ? name.toLowerCase() : name
}

/** Folds the case and checks a name against the profile. Letters outside ASCII are not word characters. */
export function fitName(name: string, profile: NamingProfile): NamingResult {
  const folded = foldName(name, profile)
  if (folded === '') return { name: folded, refused: 'it is empty' }
  if (profile.allowed === 'word') {
    const odd = folded.match(/[^A-Za-z0-9_]/gu)
    if (odd) return { name: folded, refused: `it holds ${[...new Set(odd)].map(describe).join(', ')}` }
    if (/^[0-9]/.test(folded)) return { name: folded, refused: 'it begins with a digit' }
  }
  if (profile.allowed === 'bmp') {
    const odd = [...folded].find(letter => letter.length > 1)
    if (odd) return { name: folded, refused: `it holds ${describe(odd)}` }
    if (folded.endsWith(' ')) return { name: folded, refused: 'it ends with a space' }
  }
  const long = tooLong(folded, profile)
  return long ? { name: folded, refused: long } : { name: folded }
}

/** Whether a name, already folded, is no longer than the target takes. */
export function fitsLength(folded: string, profile: NamingProfile): boolean {
  return tooLong(folded, profile) === undefined
}

function tooLong(folded: string, { maxLength, maxBytes }: NamingProfile): string | undefined {
  // No text has more characters than code units, nor more bytes than three for each of them.
  if (folded.length <= maxLength && (maxBytes === undefined || folded.length * 3 <= maxBytes))
    return undefined
  const length = [...folded].length
  if (length > maxLength) return `it is ${length} characters long, the limit is ${maxLength}`
  const bytes = utf8Length(folded)
  if (maxBytes === undefined || bytes <= maxBytes) return undefined
  return `it is ${bytes} bytes long, the limit is ${maxBytes}`
}

function utf8Length(text: string): number {
  let bytes = 0
  for (const letter of text) {
    const code = letter.codePointAt(0)!
    bytes += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4
  }
  return bytes
}

function describe(letter: string): string {
  return letter === ' ' ? 'a space' : `“${letter}”`
}
