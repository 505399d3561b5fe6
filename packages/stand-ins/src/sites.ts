/** The three sites of Osier Valley Growers: databases of one structure, each with rows of its own under the same keys. */
import { join } from 'node:path'
import type { SiteOptions } from './site.ts'
import { SITE_SIZE } from './world/nursery.sql.ts'

/** `data`: the data folder. `port`: those of the sites follow it; 0: whichever are free. */
export function sitesOf(data: string, port: number): SiteOptions[] {
  return [
    { name: 'Alderbank', seed: 104, size: SITE_SIZE },
    { name: 'Brackenfell', seed: 211, size: { ...SITE_SIZE, readings: 60_000 } },
    { name: 'Cotterdale', seed: 317, size: { ...SITE_SIZE, readings: 60_000 } },
  ].map((site, n) => ({
    ...site,
    folder: join(data, 'stand-ins', site.name.toLowerCase()),
    ports: {
      database: port === 0 ? 0 : port + 11 + 2 * n,
      screen: port === 0 ? 0 : port + 10 + 2 * n,
    },
    pace: 'gentle',
  }))
}
