/** What a receipt says of one file. */
export interface ReceiptFile {
  /** With the folders that it was handed in with, parted by "/". */
  path: string;
  sizeBytes: number;
  /** In hexadecimal. */
  sha256: string;
}

/** What a contributor gets, and the office has. */
export interface Receipt {
  /** As {@link receiptNumber} makes it. */
  number: string;
  /** Of the intake. */
  title: string;
  /** Whose it is: the office. */
  office: string;
  /** RFC 3339. */
  at: string;
  /** As they gave it; empty: not asked, or not given. */
  name: string;
  files: readonly ReceiptFile[];
}

/** Letters and digits that are not taken for each other (base 32 without I, L, O and U; common practice, no source). */
const SIGNS = '0123456789ABCDEFGHJKMNPQRSTVWXYZ';
/** Random bytes of a number: 40 bits, as eight signs. */
export const RECEIPT_BYTES = 5;

/** A number to be told over the telephone: "D-7K3M-9QXT". @param bytes of chance, {@link RECEIPT_BYTES} of them */
export function receiptNumber(bytes: Uint8Array): string {
  if (bytes.length !== RECEIPT_BYTES) throw new RangeError(`A number is made of ${RECEIPT_BYTES} bytes.`);
  let value = 0n;
  for (const byte of bytes) value = value * 256n + BigInt(byte);
  let signs = '';
  for (let i = 0; i < 8; i += 1) {
    signs = (SIGNS[Number(value % 32n)] as string) + signs;
    value /= 32n;
  }
  return `D-${signs.slice(0, 4)}-${signs.slice(4)}`;
}

/** A number as somebody typed it, in the form it is kept in; null: it is none. */
export function readReceiptNumber(text: string): string | null {
  const signs = text
    .toUpperCase()
    .replace(/^\s*D?[\s-]*/, '')
    .replace(/[\s-]/g, '')
    // As they are heard and read.
    .replace(/O/g, '0')
    .replace(/[IL]/g, '1');
  if (signs.length !== 8 || [...signs].some((sign) => !SIGNS.includes(sign))) return null;
  return `D-${signs.slice(0, 4)}-${signs.slice(4)}`;
}

/**
 * The files of a receipt as `sha256sum --check` reads them (GNU coreutils): a line for each, its hash and its name. A
 * name with a backslash or a line end in it is escaped, and its line begins with a backslash.
 */
export const checksumList = (files: readonly ReceiptFile[]): string =>
  files
    .map(({ path, sha256 }) => {
      const escaped = path.replaceAll('\\', '\\\\').replaceAll('\n', '\\n').replaceAll('\r', '\\r');
      return `${escaped === path ? '' : '\\'}${sha256}  ${escaped}\n`;
    })
    .join('');

/**
 * What the hash of a receipt is taken over: the same for whoever has the receipt, whatever language it was shown in.
 * Values are JSON strings, so that none can pass for another line.
 */
export const receiptText = ({ number, title, office, at, name, files }: Receipt): string =>
  [
    ...[number, title, office, at, name].map((value) => JSON.stringify(value)),
    ...files.map(({ path, sizeBytes, sha256 }) => `${sha256} ${sizeBytes} ${JSON.stringify(path)}`),
    '',
  ].join('\n');
