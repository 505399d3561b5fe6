/** Text with columns in it: `{first} {last}`; a brace that is meant is written twice. */

export type TemplatePart = { text: string } | { column: string }

/** undefined: a brace stands alone. */
export function templateParts(template: string): TemplatePart[] | undefined {
  const parts: TemplatePart[] = []
  let text = ''
  for (const found of template.matchAll(/\{\{|\}\}|\{([^{}]+)\}|[{}]|[^{}]+/g)) {
    const [whole, column] = found
    if (column !== undefined) {
      if (text !== '') parts.push({ text })
      text = ''
      parts.push({ column: column.trim() })
    } else if (whole === '{' || whole === '}') return undefined
    else text += whole === '{{' ? '{' : whole === '}}' ? '}' : whole
  }
  if (text !== '') parts.push({ text })
  return parts
}
