import type { ReactNode } from 'react'
import { TextButton } from './Button.tsx'

interface OrderedListProps<T> {
  label: string
  /** What one of them is called: “rule”. */
  one: string
  items: readonly T[]
  change: (items: T[]) => void
  /** Its lines; `buttons` move and remove it. */
  line: (item: T, number: number, set: (item: T) => void, buttons: ReactNode) => ReactNode
}

/** What is followed in its order: each can be changed in place, moved and removed. */
export function OrderedList<T>({ label, one, items, change, line }: OrderedListProps<T>) {
  const move = (index: number, by: number) => {
    const moved = [...items]
    const [item] = moved.splice(index, 1)
    moved.splice(index + by, 0, item!)
    change(moved)
  }
  return (
    <ol aria-label={label}>
      {items.map((item, index) => (
        // What it is, is its place in the order; two may say the same.
        <li key={index} className="mb-2 border-l-3 border-ink-2 bg-paper-3 px-3 py-1.5 text-[13px]">
          {line(
            item,
            index + 1,
            next => change(items.map((other, i) => (i === index ? next : other))),
            <>
              <TextButton
                aria-label={`Move ${one} ${index + 1} up`}
                disabled={index === 0}
                onClick={() => move(index, -1)}
              >
                ↑
              </TextButton>
              <TextButton
                aria-label={`Move ${one} ${index + 1} down`}
                disabled={index === items.length - 1}
                onClick={() => move(index, 1)}
              >
                ↓
              </TextButton>
              <TextButton
                aria-label={`Remove ${one} ${index + 1}`}
                onClick={() => change(items.filter((_, i) => i !== index))}
              >
                Remove
              </TextButton>
            </>,
          )}
        </li>
      ))}
    </ol>
  )
}
