/** Price lists as a supplier drops them into a folder: one file a month, of which the last has a line that somebody has broken. */
import { existsSync, mkdirSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

const ITEMS = [
  'Pot 9 cm',
  'Pot 13 cm, square',
  'Tray 40 × 60',
  'Label "large"',
  'Peat-free compost',
  'Hazel stake',
]
const MONTHS = ['2026-09', '2026-10', '2026-11']

export function dropSupplierPrices(lake: string): void {
  const folder = join(lake, 'supplier_prices')
  if (existsSync(folder)) return
  mkdirSync(folder, { recursive: true })
  for (const [m, month] of MONTHS.entries()) {
    const lines = ITEMS.map((item, i) => {
      const price = (0.35 + i * 1.2 + m * 0.05).toFixed(2)
      const quoted = m === 2 ? item : item.replaceAll('"', '""')
      return `SP-${String(i + 1).padStart(3, '0')};"${quoted}";${price};${month}-01\n`
    })
    writeFileSync(join(folder, `${month}.csv`), `article;item;price;valid_from\n${lines.join('')}`)
  }
}
