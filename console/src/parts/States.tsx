import type { ReactNode } from 'react';
import styled from 'styled-components';
import type { Problem } from '../data/client';
import { color, radius, space } from '../theme/tokens';
import { Button } from './Controls';

const Box = styled.div`
  border: 1px dashed ${color.soft}; border-radius: ${radius}; padding: ${space(8)}; background: ${color.raised}; max-width: 760px;
  h1, h2 { font-size: 20px; margin-bottom: ${space(3)}; }
  p + p { margin-top: ${space(2)}; }
`;

/** Says honestly that there is nothing, and what to do; page when it is all the page has. */
export function Empty({ title, page, children }: { title: string; page?: boolean; children: ReactNode }) {
  return (
    <Box>
      {page ? <h1>{title}</h1> : <h2>{title}</h2>}
      {children}
    </Box>
  );
}

/** Says what failed and the next step; what names it where it is a part of a page. */
export function Failure({ error, what, retry }: { error: unknown; what?: string; retry: () => void }) {
  const problem = error as Partial<Problem> | undefined;
  const title = problem?.title ?? 'The service does not answer';
  return (
    <Box role="alert">
      {what ? <h2>{what} cannot be shown: {title}</h2> : <h1>{title}</h1>}
      <p>{problem?.detail ?? 'The console could not reach its service.'}</p>
      <p>{problem?.next ?? 'Check that insegna serve is running, then try again.'}</p>
      <p><Button onPress={retry}>Try again</Button></p>
    </Box>
  );
}

const Bones = styled.div`
  display: grid; gap: ${space(3)};
  div { height: 44px; background: ${color.sunk}; border: 1px solid ${color.line}; border-radius: ${radius}; }
`;

/** Keeps the layout while data is on its way. */
export function Loading({ rows = 6 }: { rows?: number }) {
  return (
    <Bones role="status" aria-label="Loading">
      {Array.from({ length: rows }, (_, i) => <div key={i} />)}
    </Bones>
  );
}
