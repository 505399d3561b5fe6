import { useState } from 'react'
import { plural } from '../format.ts'
import { TextButton } from './Button.tsx'
import { difference } from './difference.ts'

export interface Pair {
  name: string
  left: string | null
  right: string | null
  same: boolean
  /** Shown even when equal, for example a key. */
  keep?: boolean
}

/** Two records, a field per line: what differs is marked within the text, what is equal is folded. */
export function SideBySide({
  leftTitle,
  rightTitle,
  pairs,
}: {
  leftTitle: string
  rightTitle: string
  pairs: readonly Pair[]
}) {
  const [unfolded, setUnfolded] = useState(false)
  const equal = pairs.filter(({ same, keep }) => same && !keep)
  const shown = unfolded ? pairs : pairs.filter(pair => !equal.includes(pair))
  return (
    <>
      <table className="w-full table-fixed border-collapse text-[13px]">
        <colgroup>
          <col className="w-44" />
          <col />
          <col />
        </colgroup>
        <thead>
          <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
            <th scope="col" className="py-1.5 font-semibold">
              Field
            </th>
            <th scope="col" className="px-2 py-1.5 font-semibold">
              {leftTitle}
            </th>
            <th scope="col" className="px-2 py-1.5 font-semibold">
              {rightTitle}
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map(({ name, left, right, same }) => (
            <tr key={name} className="border-b border-line align-top">
              <th scope="row" className="py-1.5 text-left font-mono text-[12px] font-normal">
                {name}
                {!same && <span className="sr-only"> differs</span>}
              </th>
              <Side text={left} other={right} same={same} />
              <Side text={right} other={left} same={same} />
            </tr>
          ))}
        </tbody>
      </table>
      {equal.length > 0 && (
        <p className="mt-2 text-[13px] text-ink-2">
          {plural(equal.length, 'field is', 'fields are')} equal.{' '}
          <TextButton aria-expanded={unfolded} onClick={() => setUnfolded(!unfolded)}>
            {unfolded ? 'Fold them' : 'Show them'}
          </TextButton>
        </p>
      )}
    </>
  )
}

function Side({ text, other, same }: { text: string | null; other: string | null; same: boolean }) {
  const cell = 'px-2 py-1.5 font-mono text-[12px] break-words whitespace-pre-wrap'
  if (text === null)
    return <td className={`${cell} ${same ? '' : 'bg-ochre-paper'}`}>{<i className="text-ink-3">null</i>}</td>
  if (same) return <td className={cell}>{text}</td>
  const [begin, middle, end] = difference(text, other ?? '')
  return (
    <td className={cell}>
      {begin}
      <mark className="bg-ochre-paper font-semibold text-ochre">{middle}</mark>
      {end}
    </td>
  )
}
