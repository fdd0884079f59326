/** The primitive types that columns and parameters are declared with most. */
export const typeNames = [
  'string',
  'int32',
  'int64',
  'decimal',
  'double',
  'boolean',
  'date',
  'timeofday',
  'datetimeoffset',
  'guid',
  'duration',
];
