import { typesProperty } from '../lake/files/types-setting.ts'
import { screenProperty } from '../server-settings.ts'
import type { Config } from '../contract/session.ts'

export interface BucketConfig {
  endpoint: string
  region: string
  bucket: string
  prefix: string
  accessKeyId: string
  secretAccessKey: string
  address: 'path' | 'host'
  encryption: 'none' | 'AES256'
}

export const configSchema = {
  type: 'object',
  required: ['endpoint', 'bucket', 'accessKeyId', 'secretAccessKey'],
  additionalProperties: false,
  properties: {
    endpoint: {
      type: 'string',
      title: 'Endpoint',
      description: 'Where the store answers, such as https://storage.example.org.',
      pattern: '^https?://[^/?#\\s]+/?$',
    },
    region: { type: 'string', title: 'Region', default: 'us-east-1', pattern: '^[\\w-]{1,64}$' },
    bucket: { type: 'string', title: 'Bucket', pattern: '^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$' },
    prefix: {
      type: 'string',
      title: 'Folder within',
      description: 'Everything goes below it; empty: the whole bucket.',
      default: '',
      pattern: '^$|^[\\w.=-]+(?:/[\\w.=-]+)*$',
      maxLength: 200,
    },
    accessKeyId: { type: 'string', title: 'Access key', minLength: 1, maxLength: 200 },
    secretAccessKey: {
      type: 'string',
      title: 'Secret key',
      minLength: 1,
      maxLength: 500,
      writeOnly: true,
    },
    address: {
      type: 'string',
      title: 'The bucket is named in',
      enum: ['path', 'host'],
      enumTitles: ['the path', 'the host'],
      default: 'path',
    },
    types: typesProperty,
    screen: screenProperty,
    encryption: {
      type: 'string',
      title: 'Encrypted there',
      enum: ['none', 'AES256'],
      enumTitles: ['as the bucket does by itself', 'each file, by the store’s own key'],
      default: 'none',
    },
  },
}

export function settings(config: Config): BucketConfig {
  return {
    region: 'us-east-1',
    prefix: '',
    address: 'path',
    encryption: 'none',
    ...config,
  } as unknown as BucketConfig
}
