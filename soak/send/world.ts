/** A table that people edit, and an app that would take a record twice. */
import type { AppDescription } from '@tide/core/app/description'
import type { SendDefinition } from '@tide/core/definition/send'
import { clubgate } from '../../packages/connectors/src/http/described/clubgate.ts'
import { clubgateApp } from '../../packages/stand-ins/src/apps/clubgate.ts'
import type { StandInAppDefinition } from '../../packages/stand-ins/src/apps/definition.ts'

const { organisations } = clubgate.objects as Required<typeof clubgate.objects>

export const soakedApp: AppDescription = {
  ...clubgate,
  limits: { concurrent: 3 },
  objects: { organisations: { ...organisations!, batch: { ...organisations!.batch!, most: 7 } } },
}

const [object] = clubgateApp.objects as [(typeof clubgateApp.objects)[0]]

/** Nothing of it is unique, so that whatever is sent twice is there twice. */
export const soakedStandIn: StandInAppDefinition = {
  ...clubgateApp,
  token: 'soak',
  perMinute: 0,
  objects: [{ ...object, fields: { ...object.fields, club_number: { type: 'string', maxLength: 60 } } }],
}

export const SENDS: SendDefinition = {
  version: 2,
  shape: 'send',
  name: 'soak',
  from: 'a',
  to: 'b',
  what: { table: { namespace: 'public', name: 'clubs' } },
  key: ['id'],
  object: 'organisations',
  meets: [{ column: 'id', field: 'club_number', alike: 'exactly' }],
  may: 'make identical',
  fields: [
    { field: 'club_number', from: { column: 'id' } },
    { field: 'name', from: { column: 'name' } },
    { field: 'orders_this_year', from: { column: 'orders' } },
    { field: 'note', from: { column: 'note' }, empty: 'clear' },
  ],
}
