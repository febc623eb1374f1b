/** How the place of a lane is said. */
export const useOf = (use: number, instead = false): string => (instead ? 'Instead' : use ? `Spare ${use}` : 'Main')

export const FAULTS: Record<string, string> = {
  units: 'units',
  wrong: 'another thing',
  kit: 'kit lacks an item',
  circle: 'circle',
  unsent: 'not sent there',
  cost: 'cost moved far',
}
