type Ground = { address: string };
type Report = { calls: number; statuses: Record<string, number>; failures: object[]; times: number[] };
export function prepareAs(address: string, token: string): Promise<Ground>;
export function fuzz(ground: Ground, options?: { seed?: number; calls?: number; atOnce?: number; only?: string }): Promise<Report>;
