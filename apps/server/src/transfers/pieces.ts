import { PROBLEM_STATUS } from '@quay/contract';
import { DataStore, Server, type Upload } from '@tus/server';
import type { Request, Response } from 'express';
import { AsyncLocalStorage } from 'node:async_hooks';
import { v7 as uuidv7 } from 'uuid';
import { requestIdOf } from '../platform/log/request-log.js';
import { asProblem } from '../platform/problems/problem.filter.js';

/**
 * Uploads that survive broken connections and restarts, by the open protocol tus 1.0 (core, creation, creation with
 * upload, termination). The protocol is the package's; what is kept, and until when, is decided by whoever extends this.
 * @typeParam S whoever sends, and the path that they send to
 */
export abstract class PiecesStore<S extends { path: string }> extends DataStore {
  override extensions = ['creation', 'creation-with-upload', 'termination'];
  private readonly sending = new AsyncLocalStorage<S>();
  private readonly protocol: Server;

  constructor(path: string) {
    super();
    this.protocol = new Server({
      path,
      datastore: this,
      generateUrl: (_req, { id }) => `${this.sender().path}/${id}`,
      getFileIdFromRequest: (_req, id) => id,
      namingFunction: () => uuidv7(),
      // Pages of other sites get nothing.
      allowedOrigins: () => false,
      onUploadFinish: async (_req, upload) => {
        await this.whole(upload);
        return {};
      },
      onResponseError: (req, error) => this.refusal(error, req),
    });
  }

  /** Does what the protocol asks, for whoever was let in. */
  async handle(sender: S, req: Request, res: Response): Promise<void> {
    await this.sending.run(sender, () => this.protocol.handle(req, res));
  }

  /** All of an upload has arrived. */
  protected abstract whole(upload: Upload): Promise<void>;

  protected sender(): S {
    const sender = this.sending.getStore();
    if (!sender) throw new Error('an upload is handled that nobody sends');
    return sender;
  }

  private refusal(error: unknown, req: object): { status_code: number; body: string } | undefined {
    if (typeof (error as { status_code?: unknown }).status_code === 'number') return undefined;
    const problem = asProblem(error);
    return {
      status_code: PROBLEM_STATUS[problem.kind],
      body: JSON.stringify({
        title: problem.message,
        status: PROBLEM_STATUS[problem.kind],
        detail: problem.message,
        code: problem.code,
        requestId: requestIdOf(req),
        ...problem.more,
      }),
    };
  }
}

/** What of an upload's metadata is ours, as text. */
export const metadataOf = (upload: Upload, ours: readonly string[]): Record<string, unknown> =>
  Object.fromEntries(
    Object.entries(upload.metadata ?? {}).filter(([key, value]) => value !== null && ours.includes(key)),
  );
