"""Print the state machines as diagrams, from the very lists that the program obeys."""

from amber_lane.core.states import MACHINES

for machine in MACHINES:
    print(f"### {machine.name[0].upper()}{machine.name[1:]}\n\n```mermaid")
    print("\n".join(machine.mermaid()))
    print("```\n\n| move | from | to | why |\n|---|---|---|---|")
    for move in machine.moves:
        print(f"| {move.name} | {', '.join(sorted(move.source))} | {move.target} | {move.reason} |")
    print()
