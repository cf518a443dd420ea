/** A question as it goes to the thread that answers it: plain data. */
import type {
  ActiveQuestion,
  ArrivalsAnswer,
  ArrivalsQuestion,
  CountPart,
  CountQuestion,
  CountSeries,
  EffectAnswer,
  EffectQuestion,
  FunnelAnswer,
  FunnelPart,
  FunnelQuestion,
  GroupKey,
  GroupSize,
  InsightEvent,
  OfPersonQuestion,
  PathNode,
  PathsQuestion,
  PeopleShare,
  ReturnsAnswer,
  ReturnsQuestion,
  Segment,
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
  funnel: FunnelAnswer;
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

/** Who is who, in memory that every thread sees. */
export type SharedPeople = { count: number; alias: Uint32Array; firstSeen: Float64Array; aliases: number };

export type DayToLook = {
  /** One that the thread was given; null for a day without packed events. */
  key: string | null;
  at: number;
  /** What is not packed. */
  extra: InsightEvent[];
};

/** What a thread is asked, and answers. */
export type Calls = {
  /** Opens a day, or more columns of it: its rows as of these people. */
  open: {
    /** Names the day in its version. */
    asked: { day: string; at: number; rows: number; columns: [string, Uint8Array][] /** Deflated. */; people: SharedPeople };
    answer: Segment;
  };
  /** Looks through the next days. */
  days: { asked: { id: number; days: DayToLook[] }; answer: undefined };
  /** How often each group occurs. */
  sizes: { asked: { id: number }; answer: GroupSize[] };
  /** What the share of people comes to. */
  part: { asked: { id: number; top: GroupKey[] }; answer: CountPart | FunnelPart };
  answer: { asked: { id: number }; answer: unknown };
};
export type CallName = keyof Calls;

export type ToThread =
  | { [Name in CallName]: { call: Name; ticket: number; asked: Calls[Name]['asked'] } }[CallName]
  | { call: 'begin'; id: number; spec: Spec; people: SharedPeople; now: number /** Null: all people. */; share: PeopleShare | null }
  /** An open day, under the name that questions use. */
  | { call: 'take'; key: string; segment: Segment }
  | { call: 'forget'; keys: readonly string[]; days: readonly string[] }
  | { call: 'end'; id: number };

export type FromThread = { ticket: number; answer: unknown } | { ticket: number; failed: string };
