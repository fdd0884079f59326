import { ConfigFileOptions, EmitModes, Modes } from "@odata2ts/odata2ts";

const config: ConfigFileOptions = {
  mode: Modes.service,
  emitMode: EmitModes.ts,
  services: { alder: { source: "generated/metadata.xml", output: "generated", serviceName: "Alder" } },
};
export default config;
