const names = ["B", "kB", "MB", "GB", "TB", "PB"];

/** An amount of data as people say it: a GB is 1024 MB, as definitions mean it, for memory and disks alike. */
export function amount(bytes: number): string {
  let i = 0;
  for (; bytes >= 1024 && i < names.length - 1; i++) bytes /= 1024;
  return `${Number(bytes.toPrecision(4))} ${names[i]}`;
}

/** What a size of a site holds. */
export function sizeWords(size: { cpus: number; memoryBytes: number; price?: { perHour: string; perMonth: string; currency: string } }): string {
  const price = size.price ? `, ${size.price.perHour} ${size.price.currency} an hour, ${size.price.perMonth} a month` : "";
  return `${size.cpus} ${size.cpus === 1 ? "processor" : "processors"}, ${amount(size.memoryBytes)}${price}`;
}
