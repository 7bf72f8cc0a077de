import { STAGE_WORDS, VANTAGES, type StageResult, type Vantage, type WayIn } from './facts.js';
import { traceVerdict } from './trace.js';

/** What was found from one vantage; `trace` is null when nobody stands there who could look. */
export interface VantageTrace {
  vantage: Vantage;
  trace: StageResult[] | null;
}

/**
 * How a lamp shows it: everything is well, something needs a hand, those for whom the address is cannot get in, nobody
 * looked.
 */
export type ReachMark = 'ok' | 'warn' | 'fail' | 'unknown';

/** Who must get in by an address of this kind: outsiders, or only the office. */
const MUST: Record<WayIn, Vantage> = { mapping: 'outside', fixed: 'outside', relay: 'outside', office: 'office' };

/**
 * What all vantages together come to. The one that the address is for decides; the others can only worsen it to a
 * warning.
 */
export function reachMark(wayIn: WayIn, traces: readonly VantageTrace[]): ReachMark {
  const must = traces.find((t) => t.vantage === MUST[wayIn])?.trace;
  if (!must) return 'unknown';
  const { mark } = traceVerdict(must);
  if (mark === 'fail') return 'fail';
  const others = wayIn === 'office' ? [] : traces.flatMap((t) => (t.trace ? [traceVerdict(t.trace).mark] : []));
  return mark === 'warn' || others.some((m) => m !== 'ok') ? 'warn' : 'ok';
}

/** What the vantages come to for people outside alone: what a link is worth to them. */
export function outsideMark(traces: readonly VantageTrace[]): ReachMark {
  const trace = traces.find((t) => t.vantage === 'outside')?.trace;
  return trace ? traceVerdict(trace).mark : 'unknown';
}

const PEOPLE: Record<Vantage, string> = {
  outside: 'Outsiders',
  office: 'People in the office',
  guest: 'People on the guest Wi-Fi',
  tunnel: 'People in the tunnel',
};

/**
 * "Outsiders can get in. People on the guest Wi-Fi cannot.": what works, then what does not, in the order of the
 * vantages.
 */
export function reachSentence(traces: readonly VantageTrace[]): { good: string; bad: string } {
  const ways = VANTAGES.flatMap((v) => {
    const trace = traces.find((t) => t.vantage === v)?.trace;
    return trace ? [{ v, stops: traceVerdict(trace).mark === 'fail' }] : [];
  });
  if (ways.length === 0) return { good: '', bad: 'Nobody has looked yet.' };
  const stopped = ways.filter((w) => w.stops);
  if (stopped.length === 0)
    return {
      good: ways.length > 1 ? 'Everybody can get in.' : `${PEOPLE[(ways[0] as { v: Vantage }).v]} can get in.`,
      bad: '',
    };
  if (stopped.length === ways.length)
    return {
      good: '',
      bad: ways.length > 1 ? 'Nobody can get in.' : `${PEOPLE[(stopped[0] as { v: Vantage }).v]} cannot get in.`,
    };
  const list = (vs: Vantage[]) =>
    vs
      .map((v, i) => (i === 0 ? PEOPLE[v] : PEOPLE[v].replace('People', 'people').replace('Outsiders', 'outsiders')))
      .join(vs.length > 2 ? ', ' : ' and ');
  const good = ways.filter((w) => !w.stops).map((w) => w.v);
  return {
    good: good.length <= 2 ? `${list(good)} can get in.` : 'Most can get in.',
    bad: `${list(stopped.map((w) => w.v))} cannot.`,
  };
}

/** What is wrong with an address for those whom it is for, and why: the worst first. Null when nothing is. */
export function reachTrouble(wayIn: WayIn, traces: readonly VantageTrace[]): { words: string; reason: string } | null {
  const concerned = wayIn === 'office' ? traces.filter((t) => t.vantage === 'office') : traces;
  for (const mark of ['fail', 'warn'] as const) {
    const found = concerned.find((t) => t.trace && traceVerdict(t.trace).mark === mark);
    if (!found?.trace) continue;
    const at = found.trace.find((s) => s.mark === mark);
    const words =
      mark === 'fail' ? reachSentence(concerned).bad : `${STAGE_WORDS[at?.stage ?? 'page']}: ${at?.value ?? ''}`;
    return { words, reason: at?.reason ?? '' };
  }
  return null;
}
