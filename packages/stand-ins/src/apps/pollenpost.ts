import type { StandInAppDefinition } from './definition.ts'
import type { Records } from './records.ts'

const lowered = (text: string) => text.trim().toLowerCase()

/** Mailing audiences. Nobody can read their members, only how many there are. */
export const pollenpostApp: StandInAppDefinition = {
  name: 'Pollenpost',
  what: 'mailing audiences',
  token: 'pollenpost-linden-token',
  perMinute: 600,
  objects: [
    {
      name: 'audiences',
      schema: 'Audience',
      prefix: 'aud_',
      batch: 100,
      findBy: ['name'],
      fields: {
        name: { type: 'string', title: 'Name', required: true, maxLength: 80, unique: true },
        members: {
          type: 'integer',
          title: 'Members',
          computed: ({ id }, all) => all('members').filter(({ audience }) => audience === id).length,
        },
      },
    },
    {
      name: 'members',
      schema: 'Member',
      prefix: 'mem_',
      batch: 500,
      findBy: ['audience'],
      countsOnly: true,
      together: ['audience', 'email'],
      fields: {
        audience: { type: 'string', title: 'Audience', required: true, refers: 'audiences' },
        email: {
          type: 'string',
          format: 'email',
          title: 'E-mail',
          required: true,
          normal: lowered,
          refuses: email => (BOUNCED.has(email) ? `mail to ${email} has bounced before` : undefined),
        },
        name: { type: 'string', title: 'Name', maxLength: 120 },
        last_order_on: { type: 'string', format: 'date', title: 'Last order on' },
      },
    },
  ],
}

const BOUNCED = new Set(['club104@example.org'])

export function fillPollenpost(records: Records): void {
  const [audiences] = pollenpostApp.objects as [(typeof pollenpostApp.objects)[0]]
  for (const name of ['Lapsing clubs', 'Lapsed clubs', 'Spring catalogue'])
    records.create(audiences, { name })
}
