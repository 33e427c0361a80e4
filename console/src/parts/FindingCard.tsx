import { Link } from 'react-router';
import styled from 'styled-components';
import type { Finding, Severity as Severities } from '../data/client';
import { capital, moment } from '../data/format';
import { color, font, radius, space } from '../theme/tokens';
import { Acceptance, AcceptButton } from './AcceptButton';
import { Belongs } from './Belonging';
import { MendButton } from './MendButton';
import { Plate } from './Plate';
import { Prose } from './Prose';
import { Severity } from './Severity';
import { Spot } from './Spot';
import { SurveyButton } from './SurveyButton';

const Card = styled.li<{ $name: Finding['severity'] }>`
  display: grid; grid-template-columns: 56px minmax(0, 1fr); gap: ${space(1)} ${space(4)}; background: ${color.raised}; border: 1px solid ${color.line}; border-radius: ${radius};
  border-left: 5px solid ${(p) => ({ broken: color.oxide, due: color.brassFill, weak: color.soft, note: color.line })[p.$name]};
  padding: ${space(3)} ${space(4)};
  h3 { font-size: 17px; display: inline; margin-right: ${space(3)}; overflow-wrap: anywhere; }
  .at { font-family: ${font.mono}; font-size: 14px; color: ${color.soft}; }
  summary { cursor: pointer; font-size: 14px; color: ${color.link}; } dl { margin: ${space(1)} 0 0; font-size: 14px; } dl div { display: flex; gap: ${space(2)}; } dt { color: ${color.soft}; white-space: nowrap; } dd { margin: 0; overflow-wrap: anywhere; }
  .act { display: flex; flex-wrap: wrap; align-items: center; gap: ${space(2)} ${space(3)}; margin-top: ${space(2)}; }
  .buttons { display: flex; flex-wrap: wrap; gap: ${space(2)} ${space(3)}; margin-left: auto; } .mends { font-size: 14px; color: ${color.soft}; }
  .place { font-family: ${font.mono}; font-size: 14px; border: 1px solid ${color.line}; background: ${color.sunk}; padding: 1px ${space(2)}; overflow-wrap: anywhere; }
`;

const List = styled.ul`list-style: none; margin: 0 0 ${space(6)}; padding: 0; display: grid; gap: ${space(3)};`;

/** What the severities mean, worst first. */
export const titles: [Severities, string][] = [['broken', 'Broken now'], ['due', 'Hurts at a known date'], ['weak', 'Works, below good practice'], ['note', 'Worth knowing']];

/** Findings to act on: cause, where it is declared, remedy, and a look again. */
export function FindingList({ items }: { items: Finding[] }) {
  return <List>{items.map((f) => <FindingCard key={f.id} f={f} />)}</List>;
}

function FindingCard({ f }: { f: Finding }) {
  const at = `/servers/${encodeURIComponent(f.server)}`;
  return (
    <Card $name={f.severity}>
      {f.faces && f.verdict ? <Plate faces={f.faces} verdict={f.verdict} /> : <span />}
      <div>
        <h3>{f.endpoint ? f.host || 'without SNI' : f.server ? <Link to={at}>{f.server}</Link> : f.stands_for ? 'Several servers' : <Link to="/notices">Insegna itself</Link>}</h3>
        <span className="at">{f.endpoint ? <><Link to={at}>{f.server}</Link>, {f.endpoint}</> : f.server && 'the server as a whole'}</span>
        <p><Prose text={`${capital(f.cause)}.`} /></p>
        <p><strong><Prose text={`${capital(f.remedy)}.`} /></strong></p>
        <Acceptance f={f} />
        {f.closed_at && <p>Closed {moment(f.closed_at)}.</p>}
        {!f.closed_at && <p className="mends">{f.mending.can ? 'Mends itself' : 'For a person'}: <Prose text={`${f.mending.says}.`} /></p>}
        {f.evidence.length > 0 && (
          <details>
            <summary>Evidence</summary>
            <dl>{f.evidence.map((e) => <div key={e.label + e.value}><dt>{e.label}</dt><dd>{e.value}</dd></div>)}</dl>
          </details>
        )}
        <div className="act">
          <Severity name={f.severity} />
          <Link to={`/findings/${f.id}`} aria-label={`Finding ${f.id}`}>#{f.id}</Link>
          <code>{f.code}</code>
          <Belongs to={f.belongs} />
          {f.source && <Spot server={f.server} spot={f.source} />}
          {f.place && <span className="place">{f.place}</span>}
          {f.certificate && <Link to={`/certificates/${f.certificate}`}>certificate</Link>}
          <span className="buttons">
          <AcceptButton f={f} />
          {f.server && <SurveyButton scope={f.host ? { host: f.host } : { server: f.server }} label={`Look again at ${f.host || f.server}`}>Look again</SurveyButton>}
          {f.mending.can && <MendButton which={{ findings: [f.id] }} label={`Mend ${f.code} of ${f.host || f.server}`}>Mend</MendButton>}
          </span>
        </div>
      </div>
    </Card>
  );
}
