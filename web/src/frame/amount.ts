/** An amount of data as people say it. */
export function megabytes(bytes: number): string {
  return bytes < 100_000 ? "under 0.1 MB" : `${(bytes / 1e6).toFixed(1)} MB`;
}

/** What a size of a site holds. */
export function sizeWords(size: { cpus: number; memoryBytes: number }): string {
  return `${size.cpus} ${size.cpus === 1 ? "processor" : "processors"}, ${(size.memoryBytes / 2 ** 30).toFixed(1)} GB`;
}
