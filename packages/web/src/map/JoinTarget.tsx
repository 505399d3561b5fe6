import type { ConnectionInfo } from '@tide/core/api/connections'
import { DropdownMenu } from 'radix-ui'
import { useNavigate } from 'react-router'
import { setupPath, type Way } from './joining.ts'

interface JoinTargetProps {
  from: ConnectionInfo
  to: ConnectionInfo
  ways: readonly Way[]
  /** Somebody has let go of the line over it. */
  chosen: boolean
  choose: (chosen: boolean) => void
  first: boolean
}

/** Lies over a system while another is joined: what can be begun between the two. */
export function JoinTarget({ from, to, ways, chosen, choose, first }: JoinTargetProps) {
  const navigate = useNavigate()
  if (ways.length === 0)
    return (
      <span className="absolute inset-0 flex items-center justify-center rounded-sm border border-dashed border-ink-3 bg-paper-2 px-2 text-center text-[12px] text-ink-2">
        Nothing goes there from {from.name}
      </span>
    )
  return (
    <DropdownMenu.Root open={chosen} onOpenChange={choose} modal={false}>
      <DropdownMenu.Trigger asChild>
        <button
          type="button"
          data-system={to.id}
          autoFocus={first}
          className="absolute inset-0 rounded-sm border-2 border-link bg-paper-3 px-2 text-[13px] font-semibold text-link"
        >
          Join with {to.name}
        </button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          className="z-50 border border-ink bg-paper-3 py-1 text-[13px]"
          sideOffset={4}
          aria-label={`What begins between ${from.name} and ${to.name}`}
        >
          {ways.map(({ says, shape }) => (
            <DropdownMenu.Item
              key={shape}
              className="cursor-pointer px-3 py-1.5 data-[highlighted]:bg-paper-2 data-[highlighted]:font-semibold"
              onSelect={() => void navigate(setupPath(shape, from.id, to.id))}
            >
              {says}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}
