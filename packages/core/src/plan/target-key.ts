/** Keys at the target that are not the source's own. */
import { printName, type Dataset } from '../records/dataset.ts'
import { someOf, type PlanNote } from './note.ts'

/**
 * The columns of the source that are the key at the target: those that were named, else its own key. What would not keep rows
 * apart, or could not be followed, is refused in the notes.
 */
export function targetKey(
  dataset: Dataset,
  named: readonly string[] | undefined,
  notes: PlanNote[],
): readonly string[] {
  if (named === undefined || dataset.key.length === 0) return dataset.key
  const key = [...new Set(named)]
  const shown = printName(dataset)
  const refuse = (message: string, remedy: string) => {
    const { namespace, name } = dataset
    notes.push({ level: 'refused', message, remedy, tables: [{ namespace, name }], section: 'rows' })
    return dataset.key
  }
  const fields = key.map(name => dataset.fields.find(field => field.name === name))
  const absent = key.filter((_, i) => fields[i] === undefined || fields[i].notCaptured)
  if (absent.length > 0)
    return refuse(
      `The target key of ${shown}: there is no ${someOf(absent)} that could be followed.`,
      `Name columns of it: ${dataset.fields.map(({ name }) => name).join(', ')}.`,
    )
  const empty = key.filter((_, i) => fields[i]!.nullable)
  if (empty.length > 0)
    return refuse(
      `The target key of ${shown}: ${someOf(empty)} may be null.`,
      'Forbid that at the source (NOT NULL), or name other columns.',
    )
  const isUnique = [{ columns: dataset.key }, ...(dataset.uniques ?? [])].some(({ columns }) =>
    columns.every(column => key.includes(column)),
  )
  if (!isUnique)
    return refuse(
      `The target key of ${shown}: nothing at the source keeps two rows from having the same ${key.join(', ')}.`,
      'Give it a unique index there, or name columns more.',
    )
  const beyond = key.filter(name => !dataset.key.includes(name))
  if (beyond.length > 0 && !dataset.tellsBefore)
    return refuse(
      `The target key of ${shown}: when ${someOf(beyond)} ${beyond.length === 1 ? 'is' : 'are'} changed, its log does not tell what ${beyond.length === 1 ? 'it was' : 'they were'} before.`,
      'Let the source log whole rows (replica identity FULL, or a full row image), or take its own key.',
    )
  return key
}
