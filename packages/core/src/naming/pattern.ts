/**
 * Patterns over names: `*` stands for any letters or none, `?` for one, and a backslash before a letter for just that
 * letter. The parts of a name are joined by dots; a dot within a part is written `\.`.
 */

/** Stands for a dot within a part of a name; Unicode gives it no meaning. */
const INNER_DOT = '\u{F8FE}'

/** The parts of a name, for example schema, table and column, as patterns see them. */
export function pathOf(...parts: string[]): string {
  return parts.map(part => (part.includes('.') ? part.replaceAll('.', INNER_DOT) : part)).join('.')
}

/** The pattern that only this name matches. */
export function exactPattern(...parts: string[]): string {
  return parts.map(part => part.replaceAll(/[*?\\.]/g, '\\$&')).join('.')
}

type Token = { letter: string } | 'any' | 'one'

/** Whether a name, as `pathOf` gives it, matches; in time that grows with the product of both lengths at most. */
export function matcherOf(pattern: string): (path: string) => boolean {
  const tokens = tokensOf(pattern)
  if (tokens.every(token => typeof token === 'object')) {
    const exact = tokens.map(token => token.letter).join('')
    return path => path === exact
  }
  return path => matches(tokens, path)
}

function tokensOf(pattern: string): Token[] {
  const tokens: Token[] = []
  const letters = [...pattern]
  for (let i = 0; i < letters.length; i++) {
    const letter = letters[i]!
    if (letter === '*') tokens.push('any')
    else if (letter === '?') tokens.push('one')
    else if (letter === '\\' && i + 1 < letters.length) {
      const escaped = letters[++i]!
      tokens.push({ letter: escaped === '.' ? INNER_DOT : escaped })
    } else tokens.push({ letter })
  }
  return tokens
}

/** Goes back to the last `*` only: whatever an earlier one took, the later one could take as well. */
function matches(tokens: readonly Token[], path: string): boolean {
  const letters = [...path]
  let [token, letter] = [0, 0]
  let [afterAny, restart] = [-1, 0]
  while (letter < letters.length) {
    const wanted = tokens[token]
    if (wanted === 'any') {
      afterAny = ++token
      restart = letter
    } else if (wanted === 'one' || (typeof wanted === 'object' && wanted.letter === letters[letter])) {
      token++
      letter++
    } else if (afterAny >= 0) {
      token = afterAny
      letter = ++restart
    } else return false
  }
  while (tokens[token] === 'any') token++
  return token === tokens.length
}
