/** A call that a function should not have made so; its words are for the function. Whatever else fails is the service's own affair. */
export class CallRefused extends Error {}
