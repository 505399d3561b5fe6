import { duration } from '../../format.ts'

/** Where the lag comes from. */
export function Delay({
  delay: { journal, target },
  waits,
}: {
  delay: { journal: number; target: number }
  /** So many seconds a change waits for others. */
  waits: number
}) {
  const slower = journal > target ? 'reading the source’s changes' : 'landing at the target'
  return (
    <p className="-mt-1 pb-2 text-[13px] text-ink-2">
      Of the lag, {duration(journal)} from the source into the journal, {duration(target)} from there to the
      target
      {journal + target > waits + 1 ? (
        <>
          ; <b className="text-ink">{slower}</b> is what takes long
        </>
      ) : null}
      .
    </p>
  )
}
