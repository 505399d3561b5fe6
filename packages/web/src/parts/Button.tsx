import type { ComponentProps } from 'react'
import { Link, type LinkProps } from 'react-router'

type Look = 'filled' | 'outlined' | 'text' | 'danger'

const LOOKS: Record<Look, string> = {
  filled:
    'bg-ink text-on-ink border-ink hover:bg-ink-2 disabled:bg-line disabled:border-line disabled:text-ink-3',
  outlined: 'border-line-2 bg-paper-3 hover:border-ink-3 disabled:text-ink-3',
  text: 'border-transparent hover:bg-paper-2 disabled:text-ink-3',
  danger:
    'bg-buoy text-on-ink border-buoy hover:bg-buoy-mark disabled:bg-line disabled:border-line disabled:text-ink-3',
}

const shape =
  'inline-flex items-center gap-1.5 rounded-sm border px-3 py-1 text-[13px] font-semibold whitespace-nowrap'

/** One filled button at most in view: the next sensible action. */
export function Button({
  look = 'outlined',
  className = '',
  ...rest
}: ComponentProps<'button'> & { look?: Look }) {
  return <button type="button" {...rest} className={`${shape} ${LOOKS[look]} ${className}`} />
}

export function ButtonLink({ look = 'outlined', ...rest }: LinkProps & { look?: Look }) {
  return <Link {...rest} className={`${shape} ${LOOKS[look]}`} />
}

/** A verb inside running text; it can be hit a little above and below, and takes no more room for that. */
export function TextButton({ className = '', ...rest }: ComponentProps<'button'>) {
  return (
    <button
      type="button"
      {...rest}
      className={`relative -my-[3px] py-[3px] text-link font-semibold underline-offset-2 hover:underline disabled:text-ink-3 ${className}`}
    />
  )
}
