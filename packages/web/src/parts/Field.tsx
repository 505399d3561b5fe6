import { useId, type ComponentProps, type ReactNode } from 'react'

const control =
  'w-full rounded-sm border border-line-2 bg-paper-3 px-2.5 py-1.5 text-[14px] disabled:text-ink-3'

interface Described {
  label: string
  hint?: ReactNode
}

function Labelled({ id, label, hint, children }: { id: string; children: ReactNode } & Described) {
  return (
    <div>
      <label htmlFor={id} className="mb-1 block text-[13px] font-semibold">
        {label}
      </label>
      {children}
      {hint && <p className="mt-1 text-[12px] text-ink-3">{hint}</p>}
    </div>
  )
}

export function TextField({
  label,
  hint,
  mono,
  ...rest
}: Described & { mono?: boolean } & ComponentProps<'input'>) {
  const id = useId()
  return (
    <Labelled id={id} label={label} hint={hint}>
      <input
        id={id}
        autoComplete="off"
        spellCheck={false}
        {...rest}
        className={`${control} ${mono ? 'font-mono text-[13px]' : ''}`}
      />
    </Labelled>
  )
}

export function TextArea({ label, hint, ...rest }: Described & ComponentProps<'textarea'>) {
  const id = useId()
  return (
    <Labelled id={id} label={label} hint={hint}>
      <textarea id={id} spellCheck={false} {...rest} className={`${control} font-mono text-[12px]`} />
    </Labelled>
  )
}

export function SelectField({
  label,
  hint,
  options,
  ...rest
}: Described & { options: { value: string; title: string }[] } & ComponentProps<'select'>) {
  const id = useId()
  return (
    <Labelled id={id} label={label} hint={hint}>
      <select id={id} {...rest} className={control}>
        {options.map(({ value, title }) => (
          <option key={value} value={value}>
            {title}
          </option>
        ))}
      </select>
    </Labelled>
  )
}

/** A search field without a visible label: its placeholder says what it finds. */
export function FindField({ label, className = '', ...rest }: { label: string } & ComponentProps<'input'>) {
  return (
    <input
      type="search"
      aria-label={label}
      placeholder={label}
      autoComplete="off"
      spellCheck={false}
      {...rest}
      className={`w-full border-b border-line-2 bg-transparent py-1 text-[13px] ${className}`}
    />
  )
}

const inline = 'rounded-sm border border-line-2 bg-paper px-1.5 py-0.5'

/** A field within a line that says what it is; its label is read out. */
export function InlineField({ label, className = '', ...rest }: { label: string } & ComponentProps<'input'>) {
  return (
    <input
      aria-label={label}
      autoComplete="off"
      spellCheck={false}
      {...rest}
      className={`${inline} font-mono text-[12px] ${className}`}
    />
  )
}

export function InlineSelect({
  label,
  options,
  className = '',
  ...rest
}: { label: string; options: { value: string; title: string }[] } & ComponentProps<'select'>) {
  return (
    <select aria-label={label} {...rest} className={`${inline} text-[13px] ${className}`}>
      {options.map(({ value, title }) => (
        <option key={value} value={value}>
          {title}
        </option>
      ))}
    </select>
  )
}
