/** The one table that every target keeps our checkpoints in, and its SQL, which differs in how things are written only. */
import { checkpointRow, type Checkpoint, type CheckpointRow } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'

/** How a target writes what the statements are made of. */
export interface CheckpointDialect {
  /** The table's name, qualified. */
  table: string
  literal(text: string): string
  /** An ISO time in UTC as a value of the column that holds it. */
  time(iso: string): string
  /** That column as an ISO time in UTC, to the microsecond. */
  isoTime: string
  now: string
}

/** Statements about one target's checkpoints. */
export class CheckpointSql {
  private readonly dialect: CheckpointDialect

  constructor(dialect: CheckpointDialect) {
    this.dialect = dialect
  }

  /** Columns: epoch, position, complete up to, lanes, consistent (`1` or `0`). */
  read(pipeline: string): string {
    const { table, literal, isoTime } = this.dialect
    return `SELECT CAST(epoch AS CHAR(20)), position, ${isoTime}, lanes, CASE WHEN consistent THEN '1' ELSE '0' END
      FROM ${table} WHERE pipeline = ${literal(pipeline)}`
  }

  /** Takes away what is not newer than the checkpoint; what is stays. */
  clear({ pipeline, epoch }: Pick<Checkpoint, 'pipeline' | 'epoch'>): string {
    const { table, literal } = this.dialect
    return `DELETE FROM ${table} WHERE pipeline = ${literal(pipeline)} AND epoch <= ${epoch}`
  }

  insert(checkpoint: Checkpoint): string {
    return this.insertRow(checkpoint.pipeline, checkpointRow(checkpoint))
  }

  insertRow(name: string, { epoch, position, completeUpTo, lanes, consistent }: CheckpointRow): string {
    const { table, literal, time, now } = this.dialect
    const values = [
      literal(name),
      epoch,
      literal(position),
      time(completeUpTo),
      literal(lanes),
      consistent ? 'TRUE' : 'FALSE',
      now,
    ]
    return `INSERT INTO ${table} (pipeline, epoch, position, complete_up_to, lanes, consistent, written_at)
      VALUES (${values.join(', ')})`
  }

  /** Changes no row when a newer engine has taken the pipeline over (see `overtaken`). */
  write(checkpoint: Checkpoint): string {
    const { table, literal, time, now } = this.dialect
    const { position, completeUpTo, lanes, consistent } = checkpointRow(checkpoint)
    const { pipeline, epoch } = checkpoint
    return `UPDATE ${table} SET epoch = ${epoch}, position = ${literal(position)}, complete_up_to = ${time(completeUpTo)},
        lanes = ${literal(lanes)}, consistent = ${consistent ? 'TRUE' : 'FALSE'}, written_at = ${now}
      WHERE pipeline = ${literal(pipeline)} AND epoch <= ${epoch}`
  }

  raise(pipeline: string, epoch: number): string {
    const { table, literal } = this.dialect
    return `UPDATE ${table} SET epoch = ${epoch} WHERE pipeline = ${literal(pipeline)} AND epoch <= ${epoch}`
  }

  forget(pipeline: string): string {
    const { table, literal } = this.dialect
    return `DELETE FROM ${table} WHERE pipeline = ${literal(pipeline)}`
  }
}

/** What `read` answers. */
export function rowRead(values: readonly (string | null)[]): CheckpointRow {
  const [epoch, position, completeUpTo, lanes, consistent] = values as string[]
  return {
    epoch: epoch!.trim(),
    position: position!,
    completeUpTo: completeUpTo!,
    lanes: lanes!,
    consistent: consistent === '1',
  }
}

/** Nobody writes under an epoch that is older than the checkpoint's. */
export function overtaken(): Failure {
  return new Failure(
    'structural',
    'Another engine has taken this pipeline over, or its checkpoint was removed from the target.',
    'Continue where it runs now; if it runs nowhere, start again.',
  )
}
