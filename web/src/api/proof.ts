/**
 * The part of the session that no cookie holds. A browser sends cookies to all ports of a host, and
 * a program of a workspace may listen at another one; this is known to the console's own origin alone.
 */
const key = "domicile_proof";

export const proof = () => localStorage.getItem(key) ?? "";

/** Keeps it from an answer to a sign-in. */
export function keepProof<T extends { proof?: string }>(answer: T): T {
  if (answer.proof) localStorage.setItem(key, answer.proof);
  return answer;
}

export const forgetProof = () => localStorage.removeItem(key);

/** For what can set no header: streams, sockets, pictures. */
export const proofQuery = () => `proof=${encodeURIComponent(proof())}`;
