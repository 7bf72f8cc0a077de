declare module 'tr46' {
  export function toASCII(domain: string, options?: Record<string, boolean>): string | null;
}
