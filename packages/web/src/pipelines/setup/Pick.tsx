import type { ConnectionInfo } from '@tide/core/api/connections'
import { Link } from 'react-router'

/** One of the connections. */
export function Pick({
  label,
  connections,
  chosen,
  choose,
}: {
  label: string
  connections: ConnectionInfo[]
  chosen: string
  choose: (id: string) => void
}) {
  return (
    <div role="radiogroup" aria-label={label}>
      {connections.map(({ id, name, address }) => (
        <label key={id} className="flex items-baseline gap-2.5 border-b border-line py-1.5">
          <input
            type="radio"
            name={label}
            checked={id === chosen}
            onChange={() => choose(id)}
            onClick={() => id === chosen && choose(id)}
          />
          <span className="font-semibold">{name}</span>
          <span className="overflow-hidden font-mono text-[12px] text-ellipsis whitespace-nowrap text-ink-2">
            {address}
          </span>
        </label>
      ))}
      {connections.length === 0 && (
        <p className="text-ink-2">No connection can be a {label.toLowerCase()} yet.</p>
      )}
      <Link className="mt-2 inline-block text-[13px] font-semibold text-link" to="/connections/new">
        Add a connection
      </Link>
    </div>
  )
}
