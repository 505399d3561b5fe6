/** What a naming rule can do, as it is chosen, and what each begins with. */
import type { NamingDeed } from '@tide/core/naming/rule'

/** The texts of a deed, by what they are called beside their fields. */
export interface DeedField {
  of: 'replace' | 'find' | 'by' | 'prefix' | 'suffix' | 'schema' | 'call'
  label: string
}

export interface DeedChoice {
  title: string
  begin: NamingDeed
  fields: DeedField[]
}

export const DEEDS: readonly DeedChoice[] = [
  { title: 'make upper case', begin: { make: 'upper case' }, fields: [] },
  { title: 'make lower case', begin: { make: 'lower case' }, fields: [] },
  { title: 'make plain letters', begin: { make: 'plain letters' }, fields: [] },
  {
    title: 'replace a text',
    begin: { replace: ' ', by: '_' },
    fields: [
      { of: 'replace', label: 'replace' },
      { of: 'by', label: 'by' },
    ],
  },
  {
    title: 'replace by regular expression',
    begin: { find: '[^A-Za-z0-9_]+', by: '_' },
    fields: [
      { of: 'find', label: 'find' },
      { of: 'by', label: 'becomes' },
    ],
  },
  { title: 'put before', begin: { prefix: 'site_' }, fields: [{ of: 'prefix', label: 'text' }] },
  { title: 'put after', begin: { suffix: '_copy' }, fields: [{ of: 'suffix', label: 'text' }] },
  { title: 'shorten to fit', begin: { shorten: 'to fit' }, fields: [] },
  { title: 'put into a schema', begin: { schema: 'main' }, fields: [{ of: 'schema', label: 'schema' }] },
  { title: 'call it', begin: { call: 'name' }, fields: [{ of: 'call', label: 'name' }] },
]

/** The choice that a deed is of; one by a number of characters is shown with those that are shortened. */
export function choiceOf(deed: NamingDeed): DeedChoice {
  return DEEDS.find(({ begin }) => {
    if ('make' in begin) return 'make' in deed && deed.make === begin.make
    return Object.keys(begin)[0] === Object.keys(deed)[0]
  })!
}

export function textOf(deed: NamingDeed, { of }: DeedField): string {
  return (deed as Partial<Record<DeedField['of'], string>>)[of] ?? ''
}

export function withText(deed: NamingDeed, { of }: DeedField, text: string): NamingDeed {
  return { ...deed, [of]: text } as NamingDeed
}
