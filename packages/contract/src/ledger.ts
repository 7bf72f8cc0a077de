import Joi from 'joi';

export interface LedgerRow {
  seq: number;
  at: string;
  kind: string;
  who: string;
  words: string;
  shareId: string | null;
  nodeId: string | null;
  hash: string;
}
export interface LedgerPage {
  entries: LedgerRow[];
  total: number;
  next: number | null;
}
export const ledgerQuerySchema = Joi.object<{ before?: number; limit: number; kind?: string; find?: string }>({
  before: Joi.number().integer().min(1),
  limit: Joi.number().integer().min(1).max(500).default(100),
  kind: Joi.string()
    .pattern(/^[a-z-]+$/)
    .max(40),
  find: Joi.string().trim().max(100),
});

export interface ChainAnswer {
  entries: number;
  lastHash: string;
  fault: { seq: number; fault: 'altered' | 'gap' | 'not-linked' } | null;
}
