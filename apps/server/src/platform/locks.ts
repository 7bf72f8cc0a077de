/**
 * Every advisory lock of the product (PostgreSQL §13.3.5), declared in this one place: two that have the same number
 * are one lock, and whoever takes one then waits for the other. A test finds equal ones, and locks declared elsewhere.
 */
export const LOCKS = {
  /** Migrations run one process at a time. */
  migration: 715_001,
  /** Writers of the ledger take turns, each until it commits. */
  ledger: 715_002,
  /** One process looks after the ways in at a time. */
  upkeep: 715_004,
  /** One process counts what is set aside against disk and quotas at a time. */
  room: 715_005,
  /** Long work is taken up one at a time. */
  tasks: 715_006,
  /**
   * Held shared by whoever adds folders, and alone by whoever changes who may what (a grant, a stop, a move): what is
   * decided about a folder while it is held stays so until it is written. Taken before any row is.
   */
  access: 715_007,
  /** Held shared while a folder moves or is trashed, and alone while what folders weigh is added up (schema-0010). */
  weights: 715_008,
  /** One backup or rehearsal at a time. */
  backup: 715_009,
  /** While somebody holds this shared (a backup does), no blob is removed. */
  blobsStay: 715_010,
  /** One look at the directory begins, or turns into doing, at a time. */
  directory: 715_011,
  /** Held shared while a share is made or changed, and alone while guardrails are: before a share is held. */
  guardrails: 715_012,
} as const;
