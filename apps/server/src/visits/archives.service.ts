import { Injectable } from '@nestjs/common';
import { MOST_MARKED_ARCHIVE_BYTES, visitorActs, type ShareMay } from '@quay/core';
import type { CopiesMade, Picked } from '@quay/contract';
import { sourceOf } from '../platform/client-address.js';
import { Problem } from '../platform/problems/problem.js';
import type { ShareRecord } from '../shares/shares.queries.js';
import { archiveOf, type Archive, type Going } from '../transfers/download.service.js';
import { CopiesService } from './copies.service.js';
import { tooMuchToMark, withheld } from './given.js';
import { PagesService } from './pages.service.js';
import { Takings, type Taking } from './takings.service.js';
import { noSuchFile, VisitsService, type Visitor } from './visits.service.js';

/** For so long copies are made before it is told how far that is. */
const COPIES_TURN_MS = 2000;

/** What a visit is given of a share as one: an archive, the copies that it needs, and the checksums. */
@Injectable()
export class ArchivesService {
  constructor(
    private readonly visits: VisitsService,
    private readonly pages: PagesService,
    private readonly copies: CopiesService,
    private readonly takings: Takings,
  ) {}

  /** All of a share as one archive, or what is picked of it. */
  async archive(
    visitor: Visitor,
    picked: Picked,
  ): Promise<{ archive: Archive; name: string; going: Going; taken: () => Promise<void> }> {
    const { share, visit } = await this.visits.inside(visitor);
    const showing = { share, visit, source: sourceOf(visitor.fromAddress) };
    const { archive, files } = await this.pages.given(showing, picked, ({ given, missing }) => {
      if (given.length === 0 && share.may.level === 'view') throw withheld(share.may);
      if (missing.length > 0) throw copiesMissing();
      if (picked.ids && given.length === 0) throw noSuchFile();
      return { archive: archiveOf(given), files: given.filter((f) => f.kind === 'file') };
    });
    // What it was laid out of must be in the share still, and given in the same way.
    const still = ({ may, itemIds }: ShareRecord) =>
      Promise.resolve(givenAs(may) === givenAs(share.may) && share.itemIds.every((id) => itemIds.includes(id)));
    const going = this.visits.going(visitor, share, visit, still);
    const note = (what: Taking['what']) => this.takings.note({ visitId: visit.id, share, what });
    const taken = async () => {
      if (picked.ids) await Promise.all(files.map(({ id, path }) => note({ file: { id, name: nameIn(path) } })));
      else await note({ archiveOf: files.length, ids: files.map((f) => f.id) });
    };
    return { archive, name: `${share.title}.zip`, going, taken };
  }

  /** Checksums of what is given, as `sha256sum -c` reads them. */
  async checksums(visitor: Visitor): Promise<string> {
    const { share, visit } = await this.visits.inside(visitor);
    const showing = { share, visit, source: sourceOf(visitor.fromAddress) };
    const files = await this.pages.given(showing, {}, ({ given }) => given.filter((f) => f.kind === 'file'));
    if (files.length === 0 && share.may.level === 'view') throw withheld(share.may);
    return files.map((f) => `${f.sha256}  ${f.path}\n`).join('');
  }

  /** Makes some of the copies that an archive needs. @throws Problem copies.too-much, disk.full */
  async makeCopies(visitor: Visitor, picked: Picked): Promise<CopiesMade> {
    const { share, visit } = await this.visits.inside(visitor);
    const showing = { share, visit, source: sourceOf(visitor.fromAddress) };
    const { missing, marked, markedBytes } = await this.pages.given(showing, picked, (given) => given);
    if (markedBytes > MOST_MARKED_ARCHIVE_BYTES) throw tooMuchToMark();
    const until = performance.now() + COPIES_TURN_MS;
    let made = marked - missing.length;
    for (const file of missing) {
      if (performance.now() > until) break;
      const { path, sizeBytes, sha256 } = file;
      // That one cannot be marked is known from here on; it is left out.
      await this.copies
        .whole(share, visit, { name: path, sizeBytes, sha256: Buffer.from(sha256, 'hex') })
        .catch((error: unknown) => {
          if (!(error instanceof Problem && error.code === 'share.cannot-be-marked')) throw error;
        });
      made += 1;
    }
    return { made, of: marked };
  }
}

const nameIn = (path: string): string => path.slice(path.lastIndexOf('/') + 1);

/** How what may be taken is given. */
const givenAs = (may: ShareMay): string => `${visitorActs(may).all.includes('read')} ${may.watermark}`;

const copiesMissing = (): Problem =>
  new Problem(
    'conflict',
    'share.copies-missing',
    'The copies that are marked for you are not made yet. Open the page of the share and press Download all there.',
  );
