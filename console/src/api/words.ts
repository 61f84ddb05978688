/** The words of the service's vocabularies, as its description lists them. */
export {
  causeCodeValues,
  fileRoleFilterValues,
  groundCodeValues,
  manifestChannelValues,
  recordKindValues,
  roleValues,
  sightingChannelValues,
  verdictValues,
  waivableGroundValues,
} from "./types";

/** Returns the text if it is one of the words. */
export function among<T extends string>(words: readonly T[], text: string | undefined): T | undefined {
  return words.find((word) => word === text);
}
