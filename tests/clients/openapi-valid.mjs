// Two public validators read OpenAPI documents. Prints what each finds wrong with each, as JSON.
import { Validator } from "@seriousme/openapi-schema-validator";
import SwaggerParser from "@apidevtools/swagger-parser";

const found = {};
for (const file of process.argv.slice(2)) {
  const validator = new Validator();
  const result = await validator.validate(file);
  const faults = result.valid ? [] : [JSON.stringify(result.errors).slice(0, 500)];
  try {
    await SwaggerParser.validate(file);
  } catch (fault) {
    faults.push(String(fault.message).slice(0, 500));
  }
  found[file.split("/").pop()] = [validator.version, faults];
}
console.log(JSON.stringify(found));
