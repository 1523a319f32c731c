// Which strips are chosen, as the workspace that is open says; and whether an edit reaches groups too.

const nobody = { chosen: () => [], groups: () => false };
let workspace = nobody;

// Called by the workspace that is open with its own answers.
export const choiceOf = (answers) => (workspace = { ...nobody, ...answers });
export const chosenStrips = () => workspace.chosen();
export const movesGroups = () => workspace.groups();
