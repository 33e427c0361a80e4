import { Link } from 'react-router';
import styled from 'styled-components';
import { shortSpot, spotLink } from '../data/servers';
import { color, font, narrow, radius, space } from '../theme/tokens';

const Chip = styled(Link)`
  font: 14px/1.4 ${font.mono}; color: ${color.link}; border: 1px solid ${color.line}; border-radius: ${radius}; background: ${color.sunk}; padding: 1px ${space(2)};
  text-decoration: none; display: inline-block; white-space: nowrap;
  ${narrow} { white-space: normal; overflow-wrap: anywhere; }
  &:hover { border-color: ${color.ink}; }
`;

/** File and line of a server's configuration, leading to its text. */
export function Spot({ server, spot }: { server: string; spot: string }) {
  return <Chip to={spotLink(server, spot)} title={spot}>{shortSpot(spot)}</Chip>;
}
