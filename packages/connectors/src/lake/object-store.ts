/** A file as a store lists it. */
export interface StoredFile {
  path: string
  bytes: number
  /** When it came there as it is; ISO 8601 in milliseconds. */
  at: string
}

/** Where files of a lake are: a folder, or a bucket. Paths are relative, with `/` between their parts. */
export interface ObjectStore {
  /** In words. */
  readonly where: string
  /** Puts a file there; nobody sees a part of it. */
  put(path: string, body: AsyncIterable<Uint8Array>): Promise<void>
  /** Puts a small one there if there is none; false, and nothing done, where one is. */
  create(path: string, body: Uint8Array): Promise<boolean>
  /** Puts a small one in the place of whatever is there. */
  replace(path: string, body: Uint8Array): Promise<void>
  /** What outside programs call a path. */
  uri(path: string): string
  /** Undefined where none is. */
  read(path: string): Promise<Uint8Array | undefined>
  /** Brings a file to a local path. */
  fetch(path: string, to: string): Promise<void>
  /** The local path of a file, where it has one. */
  local?(path: string): string
  /** Paths below a folder, which ends with `/`, in the order of their bytes; those behind `after` alone. */
  list(folder: string, after?: string): AsyncIterable<string>
  /** The files directly in a folder, which ends with `/`, in the order of the bytes of their paths. */
  files(folder: string): Promise<StoredFile[]>
  /** The folders directly below another, without the `/` at their ends. */
  folders(folder: string): Promise<string[]>
  /** Takes files away; those that are not there are no matter. */
  remove(paths: readonly string[]): Promise<void>
  close(): Promise<void>
}
