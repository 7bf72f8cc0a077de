/** Who does a task: one that was taken over from a process that seemed dead is not told about or ended by that one. */
export const TASKS_SCHEMA = `
ALTER TABLE task ADD COLUMN IF NOT EXISTS claim uuid;
`;
