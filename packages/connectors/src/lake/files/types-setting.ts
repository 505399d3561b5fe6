import type { Config } from '../../contract/session.ts'

export const typesProperty = {
  type: 'string',
  title: 'Types of columns in files',
  description:
    'Where files are a source and their types are not as they are found: one to a line, such as incoming/deliveries.amount: decimal(12,2).',
  default: '',
  maxLength: 20_000,
  multiline: true,
  advanced: true,
}

export const typesOf = (config: Config) => (config as { types?: string }).types ?? ''
