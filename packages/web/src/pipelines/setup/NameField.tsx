interface NameFieldProps {
  name: string
  /** Called when somebody types. */
  change: (name: string) => void
}

export function NameField({ name, change }: NameFieldProps) {
  return (
    <input
      aria-label="Name of the pipeline"
      placeholder="Name of the pipeline"
      className="w-full border-b border-transparent bg-transparent text-[20px] font-semibold hover:border-line-2"
      value={name}
      onChange={({ target }) => change(target.value)}
    />
  )
}

/** A note of the name leads there. */
export function focusName(): void {
  document.querySelector<HTMLInputElement>('main input')?.focus()
}
