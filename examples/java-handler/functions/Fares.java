import java.util.Map;

/** quote: what does a crossing cost? A plain method: it gets the request, and what it returns is the reply. */
public class Fares {
  private static final Map<String, Integer> BASE =
      Map.of("skerry-holm", 450, "holm-skerry", 450, "brackwater-skerry", 720, "skerry-brackwater", 720);
  private static final Map<String, Integer> VEHICLE = Map.of("foot", 0, "bicycle", 300, "car", 2900, "van", 4400);

  /** What the function gets of a request. */
  public record Ask(String path, Map<String, String> query) {}

  /** What it returns; reply in nightdrill.yaml says what is what. */
  public record Reply(int status, Map<String, Object> body) {}

  public static Reply quote(Ask ask) {
    String crossing = ask.path().replaceFirst("^/quote/", "");
    if (!BASE.containsKey(crossing)) return new Reply(404, Map.of("error", "no such crossing"));
    int passengers = Integer.parseInt(ask.query().getOrDefault("passengers", "1"));
    int cents = BASE.get(crossing) * passengers * 9 / 10 + VEHICLE.get(ask.query().getOrDefault("vehicle", "foot"));
    System.out.println("quoted " + crossing);
    return new Reply(200, Map.of("crossing", crossing, "cents", cents));
  }
}
