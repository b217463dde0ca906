/** What whoever is signed in may do, as far as pages depend on it. The server decides; this only hides what it refuses. */
import type { Identity } from './api/types';

/** Whether they administer some projects at least. */
export const administers = (me: Identity) =>
    me.roles.some(({ role }) => role === 'administer') && (!me.limit || me.limit.role === 'administer');

/** Whether they administer everything. */
export const administersAll = (me: Identity) =>
    me.roles.some(({ role, projects }) => role === 'administer' && projects === '*') &&
    (!me.limit || (me.limit.role === 'administer' && me.limit.projects === '*'));
