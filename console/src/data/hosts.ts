import { calls, given, type Schemas } from './client';

/** Takes a host into the estate, beside what its file declares. */
export const addHost = (body: Schemas['HostRequest']) => given(calls.POST('/hosts', { body }));
