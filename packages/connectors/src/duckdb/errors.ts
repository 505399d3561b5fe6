import { Failure, faultOf, messageOf } from '@tide/core/failure'

/** What DuckDB said about `where` (the file), as a Failure with a remedy. */
export function duckdbFailure(thrown: unknown, where: string): Failure {
  if (thrown instanceof Failure) return thrown
  const message = shortened(messageOf(thrown))
  if (/^Transaction(Context)? Error/.test(message)) {
    return new Failure(
      'transient',
      `${where}: another transaction got in the way.`,
      'It is tried again by itself.',
      thrown,
    )
  }
  const { code } = thrown as { code?: string }
  if (code === 'ENOSPC' || /^IO Error:.*(No space left|Could not write|disk quota)/i.test(message)) {
    return new Failure(
      'transient',
      `${where} cannot be written: ${message}`,
      'Free space on its disk; it is tried again by itself.',
      thrown,
    )
  }
  if (/^Out of Memory Error/.test(message)) {
    return new Failure(
      'transient',
      `${where}: DuckDB has no memory left for this batch: ${message}`,
      'It is tried again from a fresh start of the warehouse.',
      thrown,
    )
  }
  if (/^Catalog Error/.test(message)) {
    return new Failure(
      'structural',
      `${where}: ${message}`,
      'Was the table dropped or changed there? Start again: it is made and copied anew.',
      thrown,
    )
  }
  if (
    /^(Constraint|Conversion|Out of Range|Invalid Input) Error/.test(message) &&
    !message.includes('CSV Error')
  ) {
    return new Failure(
      'value',
      `${where}: ${message}`,
      'Correct the row at the source and continue, or leave the table out and start again.',
      thrown,
    )
  }
  if (!/^(?!INTERNAL|FATAL)[A-Z][\w ]* Error: /.test(message)) return faultOf(thrown, where)
  return new Failure(
    'structural',
    `${where}: ${message}`,
    'Read the message, mend what it names, then continue.',
    thrown,
  )
}

/** The first line says it, but for CSV: there it is on those behind, between the row itself and advice on options. */
function shortened(message: string): string {
  const lines = message.split('\n').map(line => line.trim())
  if (!lines[0]!.includes('CSV Error')) return lines[0]!
  const advice = lines.findIndex(line => /^(Possible|file)\b/i.test(line))
  const said = lines
    .slice(0, advice < 0 ? undefined : advice)
    .filter(line => !line.startsWith('Original Line'))
  return said.filter(Boolean).join(' ').slice(0, 400)
}
