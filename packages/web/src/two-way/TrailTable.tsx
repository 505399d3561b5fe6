import type { TwoWayTrail } from '@tide/core/api/two-way'
import { Link } from 'react-router'
import { moment, plural } from '../format.ts'
import { Name } from '../parts/Name.tsx'
import { valueSaid, type Called } from './said.ts'

/** Why a field was written. */
export function whySaid(why: string, { a, b }: Called): string {
  const known: Record<string, string> = {
    'a changed': `it was changed in ${a}`,
    'b changed': `it was changed in ${b}`,
    'a wins': `both had changed it, ${a} counts`,
    'b wins': `both had changed it, ${b} counts`,
    lines: 'both had changed lines of it',
    'put back': 'it is not to be changed there',
    elements: 'elements came or went',
    'first values': 'the first values',
    'a person': 'a person has decided so',
    link: 'the key of the other half',
    undone: 'a run was undone',
    gone: 'the other half is gone',
    new: 'it is new',
  }
  return known[why] ?? why
}

interface TrailTableProps {
  trail: readonly TwoWayTrail[]
  called: Called
  label: string
  /** Of whose pairs they are; none where it is of one pair. */
  pipeline?: string
}

const OPS: Record<TwoWayTrail['op'], string> = {
  create: 'made',
  change: 'changed',
  delete: 'deleted',
  apart: 'apart',
}

/** What a record was made with, or had when it was deleted, is one line. */
function together(trail: readonly TwoWayTrail[]): (TwoWayTrail & { more: TwoWayTrail[] })[] {
  const lines: (TwoWayTrail & { more: TwoWayTrail[] })[] = []
  for (const one of trail) {
    const last = lines.at(-1)
    const same =
      (one.op === 'create' || one.op === 'delete') &&
      last?.op === one.op &&
      last.pair === one.pair &&
      last.side === one.side
    if (same) last.more.push(one)
    else lines.push({ ...one, more: [] })
  }
  return lines
}

/** What was written to which field, from what to what, and why. */
export function TrailTable({ trail, called, label, pipeline }: TrailTableProps) {
  return (
    <table className="w-full table-fixed border-collapse text-[13px]" aria-label={label}>
      <colgroup>
        <col className="w-36" />
        <col className="w-44" />
        <col className="w-36" />
        <col />
        <col className="w-52" />
      </colgroup>
      <thead>
        <tr className="border-b border-line-2 text-left text-[12px] text-ink-2">
          {['When', 'Where', 'Field', 'From what to what', 'Why'].map(title => (
            <th key={title} scope="col" className="py-1.5 pr-2 font-semibold">
              {title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {together(trail).map(({ id, at, side, op, record, field, was, became, why, more }) => (
          <tr key={id} className="border-b border-line align-top">
            <td className="py-1.5 pr-2 whitespace-nowrap">{moment(at)}</td>
            <td className="py-1.5 pr-2">
              {called[side]}{' '}
              {pipeline && record ? (
                <Link
                  className="font-mono text-[12px] text-link"
                  to={`/pipelines/${pipeline}/pairs?${new URLSearchParams({ find: record })}`}
                >
                  <Name>{record}</Name>
                </Link>
              ) : (
                <span className="font-mono text-[12px]">{record}</span>
              )}{' '}
              <span className="text-ink-2">{OPS[op]}</span>
            </td>
            <td className="py-1.5 pr-2 break-words">
              {more.length > 0 ? (
                plural(more.length + 1, 'field')
              ) : (
                <span className="font-mono text-[12px]">{field}</span>
              )}
            </td>
            <td className="py-1.5 pr-2 break-words">
              {more.length > 0 ? (
                <span className="line-clamp-2">
                  {[{ field, was, became }, ...more]
                    .toReversed()
                    .map(one => `${one.field}: ${valueSaid(op === 'delete' ? one.was : one.became)}`)
                    .join(', ')}
                </span>
              ) : field !== null ? (
                <>
                  {op !== 'create' && <span className="text-ink-2">{valueSaid(was)} → </span>}
                  {valueSaid(became)}
                </>
              ) : null}
            </td>
            <td className="py-1.5 text-ink-2">
              {op === 'create' && why !== 'undone' ? 'it started on the other side' : whySaid(why, called)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
