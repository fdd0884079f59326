using System.Text.Json.Nodes;

namespace RapidGable.Declarations;

/// <summary>The parts of the schemas about faces.</summary>
public static partial class FileSchemas
{
    private static JsonObject NamedFaces() =>
        OneOf(
            Words("The face that it stands on; all when left out.", FaceReader.Faces),
            List("The faces that it stands on.", Words(null, FaceReader.Faces))
        );

    private static JsonObject Rest() =>
        Object(
            [],
            ("base", Text("Path of the service, such as /water; /rest/ and the service's name when left out.")),
            ("former-bases", OneOrMany("Paths at which the service stood before; they redirect.")),
            ("names", Words("How this face writes the names of properties and relations.", FaceReader.NameWords)),
            ("paths", Words("How paths are written where a set declares none.", FaceReader.PathWords)),
            ("keys", Words("Keys in paths: 1/2, or station_id=1,sensor_no=2.", "path", "named")),
            ("lists", Words("Lists: an object with rows, next and total, or a bare array.", "object", "array")),
            ("format", Words("The format when a request asks for none.", FaceReader.Formats))
        );

    private static JsonObject RestSet() =>
        Object(
            [],
            ("path", Text("Path of the set below the service.")),
            ("former-paths", OneOrMany("Paths at which the set stood before; they redirect.")),
            ("format", Words("The format when a request asks for none.", FaceReader.Formats)),
            ("cache-seconds", Number("Seconds for which caches may keep what anonymous callers read.", 1, 31_536_000))
        );
}
