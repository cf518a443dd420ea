/** A question as it goes to the thread that answers it: plain data. */
import type {
  ActiveQuestion,
  ArrivalsAnswer,
  ArrivalsQuestion,
  CountQuestion,
  CountSeries,
  EffectAnswer,
  EffectQuestion,
  FunnelAnswer,
  FunnelQuestion,
  InsightEvent,
  OfPersonQuestion,
  PathNode,
  PathsQuestion,
  ReturnsAnswer,
  ReturnsQuestion,
  TimesAnswer,
  TimesQuestion,
  VisitsAnswer,
  VisitsQuestion,
  WhyAnswer,
  WhyQuestion,
} from '@orchard/core/insight';

export type Spec =
  | { kind: 'count'; question: CountQuestion }
  | { kind: 'funnel'; question: FunnelQuestion }
  | { kind: 'why'; question: WhyQuestion }
  | { kind: 'visits'; question: VisitsQuestion }
  | { kind: 'arrivals'; question: ArrivalsQuestion }
  | { kind: 'active'; question: ActiveQuestion }
  | { kind: 'returns'; question: ReturnsQuestion }
  | { kind: 'paths'; question: PathsQuestion }
  | { kind: 'effect'; question: EffectQuestion }
  | { kind: 'times'; question: TimesQuestion }
  | { kind: 'ofPerson'; question: OfPersonQuestion };

export type Answers = {
  count: { series: CountSeries[]; groups: number };
  funnel: Omit<FunnelAnswer, 'reached'> & { reached: Uint32Array[] };
  why: WhyAnswer;
  visits: VisitsAnswer;
  arrivals: ArrivalsAnswer;
  active: number[];
  returns: ReturnsAnswer;
  paths: { total: number; next: PathNode[] };
  effect: EffectAnswer;
  times: TimesAnswer;
  ofPerson: InsightEvent[];
};

/** Who is who, for the thread. */
export type SentPeople = { name: string; count: number; alias: Uint32Array; firstSeen: Float64Array; aliases: number; version: number };

export type ToThread =
  | { kind: 'people'; people: SentPeople }
  | { kind: 'begin'; id: number; spec: Spec; people: string; now: number }
  | {
      kind: 'day';
      id: number;
      /** Names the day in its version; null for one without packed events. */
      key: string | null;
      day: number;
      rows: number;
      /** Those it does not have yet, deflated. */
      columns: [string, Uint8Array][];
      /** What is not packed. */
      extra: import('@orchard/core/insight').InsightEvent[];
    }
  | { kind: 'end'; id: number }
  | { kind: 'cancel'; id: number }
  | { kind: 'forget'; keys: string[] };

export type FromThread =
  | { kind: 'done'; id: number }
  | { kind: 'answer'; id: number; answer: unknown }
  | { kind: 'failed'; id: number; message: string };
