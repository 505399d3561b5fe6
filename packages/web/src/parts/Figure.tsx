import type { ReactNode } from 'react'

/** A figure with its label and unit, in a row of such. */
export function Figure({
  label,
  value,
  unit,
  title,
}: {
  label: string
  value: ReactNode
  unit?: string
  title?: string
}) {
  return (
    <div className="border-l border-line-2 px-4 first:border-l-0 first:pl-0" title={title}>
      <dt className="text-[12px] text-ink-2">{label}</dt>
      <dd className="text-[19px] leading-tight font-semibold whitespace-nowrap">
        {value}
        {unit && <span className="text-[13px] font-normal text-ink-2"> {unit}</span>}
      </dd>
    </div>
  )
}
