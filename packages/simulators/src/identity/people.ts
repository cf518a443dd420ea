/** The people that the simulated providers of identity know. */
export type ProviderPerson = {
  user: string;
  password: string;
  /** Stays the same. */
  id: string;
  email: string;
  emailProved: boolean;
  name: string;
  groups: string[];
};

export const PROVIDER_PASSWORD = 'slate-and-heather';
const person = (user: string, name: string, groups: string[]): ProviderPerson => ({
  user,
  password: PROVIDER_PASSWORD,
  id: `person-${user}`,
  email: `${user}@ridge.example`,
  emailProved: true,
  name,
  groups,
});
export const PROVIDER_PEOPLE: readonly ProviderPerson[] = [
  person('signe', 'Signe Fell', ['wardens', 'staff']),
  person('kenji', 'Kenji Arai', ['staff']),
  person('maren', 'Maren Vik', []),
];
