/** One of a few, side by side. */
export function Choice({
  label,
  options,
  chosen,
  choose,
}: {
  label: string
  options: string[]
  chosen: number
  choose: (i: number) => void
}) {
  return (
    <div role="group" aria-label={label} className="flex gap-2.5">
      {options.map((option, i) => (
        <button
          key={option}
          type="button"
          aria-pressed={i === chosen}
          onClick={() => choose(i)}
          className={i === chosen ? 'font-semibold' : 'text-ink-2 hover:text-ink'}
        >
          {option}
        </button>
      ))}
    </div>
  )
}
