/** A text cut into what it has in common with the other at its beginning, what differs, and what is common at its end. */
export function difference(text: string, other: string): [string, string, string] {
  const most = Math.min(text.length, other.length)
  let begin = 0
  while (begin < most && text[begin] === other[begin]) begin++
  let end = 0
  while (end < most - begin && text[text.length - 1 - end] === other[other.length - 1 - end]) end++
  return [text.slice(0, begin), text.slice(begin, text.length - end), text.slice(text.length - end)]
}
