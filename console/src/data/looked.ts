import { useEffect, useState } from 'react';

const last = 'insegna-looked';
const before = 'insegna-looked-before';

/** When somebody last looked from this browser, before the visit that goes on; none for never. */
export function useLooked(): string | undefined {
  const [since] = useState(() => {
    const known = sessionStorage.getItem(before) ?? localStorage.getItem(last) ?? '';
    sessionStorage.setItem(before, known);
    return Number.isNaN(Date.parse(known)) ? undefined : known;
  });
  useEffect(() => localStorage.setItem(last, new Date().toISOString()), []);
  return since;
}
