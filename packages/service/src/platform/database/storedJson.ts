/** JSON columns arrive parsed or as text, depending on the statement. */
export const storedJson = <T>(value: T | string): T => (typeof value === 'string' ? (JSON.parse(value) as T) : value);
