import type { CheckItem } from '@tide/core/api/browse'
import { PasteBlock } from '../parts/Copyable.tsx'

const ORDER = ['failed', 'warning', 'ok']
const WORDS = { ok: 'well', warning: 'look at this', failed: 'failed' }
const TONES = { ok: 'text-ink-2', warning: 'text-ochre', failed: 'text-buoy' }

/** A test as a checklist, what failed first; each item that is not well says what to do. */
export function Checks({ items }: { items: CheckItem[] }) {
  const sorted = items.toSorted((a, b) => ORDER.indexOf(a.result) - ORDER.indexOf(b.result))
  return (
    <ol className="border-t border-line text-[13px]" aria-label="Result of the test">
      {sorted.map(({ what, result, found, remedy, paste }) => (
        <li key={what} className="grid grid-cols-[150px_90px_minmax(0,1fr)] gap-3 border-b border-line py-2">
          <span className="font-semibold">{what}</span>
          <span className={`font-semibold ${TONES[result]}`}>{WORDS[result]}</span>
          <div>
            <p>{found}</p>
            {remedy && <p className="mt-1 text-ink-2">{remedy}</p>}
            {paste && result !== 'ok' && <PasteBlock text={paste} />}
            {paste && result === 'ok' && (
              <details>
                <summary className="text-link">Show it</summary>
                <PasteBlock text={paste} />
              </details>
            )}
          </div>
        </li>
      ))}
    </ol>
  )
}
