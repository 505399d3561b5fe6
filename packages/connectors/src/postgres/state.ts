/** The schema that holds our checkpoints at a target; apart from what we keep at a source. */
export const STATE_SCHEMA = 'constant_tide_target'
