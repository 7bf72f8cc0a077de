import { countOf } from '../text/size.js';

/** What archiving a store does, sentence by sentence, told before it is done. */
export function archiveWords(name: string, { shares, uploads }: { shares: number; uploads: number }): string[] {
  const words = [`Nothing is added, changed or thrown away in ${name} any more. Whoever looks at it goes on doing so.`];
  if (shares > 0)
    words.push(shares === 1 ? '1 share from it stays open.' : `${countOf(shares, 'share')} from it stay open.`);
  if (uploads > 0)
    words.push(
      uploads === 1 ? '1 upload that is under way ends.' : `${countOf(uploads, 'upload')} that are under way end.`,
    );
  return words;
}
