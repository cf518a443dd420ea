/** What is compared to tell whether clocks agree. */

/** Milliseconds since 1970 by the database's clock, as `ms`. */
export const TIME_SQL = "SELECT TIMESTAMPDIFF(MICROSECOND, '1970-01-01', UTC_TIMESTAMP(3)) / 1000 AS ms";

/** The time of this machine, as it was when the process began and has passed since: turning its clock changes nothing. */
export const steadyNow = (): number => Math.floor(performance.timeOrigin + performance.now());
