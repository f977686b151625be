/** Where the pages of each kind of definition are; connectors have none. */
const PATHS: Record<string, string> = {
  source: '/sources',
  rule: '/rules',
  runbook: '/runbooks',
  step: '/steps',
  connection: '/connections',
  subscriber: '/subscribers',
  contact: '/contacts',
  calendar: '/calendars',
  group: '/groups',
  guard: '/guards',
  plan: '/plans',
};

/** The page of a definition, if its kind has pages. */
export const definitionPath = (kind: string, name: string) =>
  PATHS[kind] ? `${PATHS[kind]}/${name}` : undefined;
