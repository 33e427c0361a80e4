import styled from 'styled-components';
import { api } from '../data/client';
import { ahead, moment, plural } from '../data/format';
import { color, space } from '../theme/tokens';
import { Plain, Scroll } from './Controls';

const Part = styled.section`
  margin: ${space(6)} 0; padding-bottom: ${space(4)};
  h2 { font-size: 20px; margin-bottom: ${space(3)}; }
  > p { margin-top: ${space(3)}; }
  .late { color: ${color.oxide}; font-weight: 600; }
`;

/** What is looked at by itself, when that was last and when it will be next. */
export function Schedule() {
  const { data: s } = api.useQuery('get', '/schedule', {}, { refetchInterval: 20_000, retry: false });
  if (!s) return null;
  return (
    <Part aria-label="Schedule">
      <h2>By itself</h2>
      {s.stale > 0 && <p className="late">{plural(s.stale, 'binding')} not looked at for longer than the schedule allows. Until that is done nothing of them counts as agreed.</p>}
      <Scroll tabIndex={0} role="region" aria-label="What is looked at by itself">
        <Plain>
          <thead><tr><th>What is looked at</th><th>Every</th><th>Last begun</th><th>Next</th></tr></thead>
          <tbody>
            {s.parts.map((p) => (
              <tr key={p.scope}>
                <td>{p.scope}</td><td>{p.every}</td><td className="n">{p.runs ? 'now' : p.last ? moment(p.last) : 'never'}</td>
                <td className="n">{!p.next ? 'not by itself' : ahead(p.next) === 'any moment' ? ahead(p.next) : moment(p.next)}{p.missed > 0 && `, and makes up for ${p.missed} that did not come`}</td>
              </tr>
            ))}
          </tbody>
        </Plain>
      </Scroll>
      <p>
        {s.files !== 'never' && <>Whether files of configurations have changed is seen every {s.files}; their server is then read and looked at. </>}
        {s.quiet && <>Nothing begins by itself from {s.quiet.replace('-', ' to ')}{s.quiet_now && ', which it is now'}. </>}
        The estate file declares it, under <code>schedule</code>.
      </p>
    </Part>
  );
}
