package nightdrill;

import java.lang.reflect.Array;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/** JSON (RFC 8259) to maps, lists, texts, numbers and booleans, and back. */
final class Json {
  @SuppressWarnings("serial")
  static final class Wrong extends RuntimeException {
    Wrong(String message) { super(message, null, false, false); }
  }

  private final String text;
  private int at;

  private Json(String text) { this.text = text; }

  /** read returns what a text says; numbers are Integer, Long, BigInteger or Double. */
  static Object read(byte[] from, int begin, int length) {
    Json j = new Json(new String(from, begin, length, StandardCharsets.UTF_8));
    Object value = j.value();
    if (j.next() != 0) throw new Wrong("more after the end of the JSON");
    return value;
  }

  private char next() {
    while (at < text.length()) {
      char c = text.charAt(at);
      if (c != ' ' && c != '\n' && c != '\r' && c != '\t') return c;
      at++;
    }
    return 0;
  }

  private Wrong wrong() {
    return new Wrong(at < text.length() ? "unexpected " + text.charAt(at) + " at " + at : "it ends in the middle");
  }

  private Object value() {
    char c = next();
    if (c == '"') return string();
    if (c == '{') return object();
    if (c == '[') return list();
    if (c == '-' || c >= '0' && c <= '9') return number();
    if (text.startsWith("true", at)) { at += 4; return Boolean.TRUE; }
    if (text.startsWith("false", at)) { at += 5; return Boolean.FALSE; }
    if (text.startsWith("null", at)) { at += 4; return null; }
    throw wrong();
  }

  private Map<String, Object> object() {
    Map<String, Object> out = new LinkedHashMap<>();
    at++;
    if (next() == '}') { at++; return out; }
    while (true) {
      if (next() != '"') throw wrong();
      String name = string();
      if (next() != ':') throw wrong();
      at++;
      out.put(name, value());
      char c = next();
      if (c != ',' && c != '}') throw wrong();
      at++;
      if (c == '}') return out;
    }
  }

  private List<Object> list() {
    List<Object> out = new ArrayList<>();
    at++;
    if (next() == ']') { at++; return out; }
    while (true) {
      out.add(value());
      char c = next();
      if (c != ',' && c != ']') throw wrong();
      at++;
      if (c == ']') return out;
    }
  }

  private String string() {
    int from = ++at;
    while (at < text.length() && text.charAt(at) != '"' && text.charAt(at) != '\\') at++;
    if (at < text.length() && text.charAt(at) == '"') return text.substring(from, at++);
    StringBuilder out = new StringBuilder(text.substring(from, at));
    while (at < text.length()) {
      char c = text.charAt(at++);
      if (c == '"') return out.toString();
      if (c == '\\' && at < text.length()) {
        c = text.charAt(at++);
        int plain = "\"\\/bfnrt".indexOf(c);
        if (plain >= 0) {
          c = "\"\\/\b\f\n\r\t".charAt(plain);
        } else if (c == 'u' && at + 4 <= text.length()) {
          try {
            c = (char) Integer.parseInt(text.substring(at, at + 4), 16);
          } catch (NumberFormatException e) {
            throw wrong();
          }
          at += 4;
        } else {
          throw wrong();
        }
      }
      out.append(c);
    }
    throw wrong();
  }

  private Object number() {
    int from = at;
    boolean whole = true;
    while (at < text.length()) {
      char c = text.charAt(at);
      if (c == '.' || c == 'e' || c == 'E') whole = false;
      else if (c != '-' && c != '+' && (c < '0' || c > '9')) break;
      at++;
    }
    String digits = text.substring(from, at);
    try {
      if (!whole) return Double.valueOf(digits);
      if (digits.length() > 18) return new java.math.BigInteger(digits);
      long n = Long.parseLong(digits);
      if (n == (int) n) return (int) n;
      return n;
    } catch (NumberFormatException e) {
      at = from;
      throw wrong();
    }
  }

  /** write appends a value. */
  static void write(StringBuilder out, Object value, int depth) throws ReflectiveOperationException {
    if (depth > 200) throw new Wrong("it is nested more than 200 deep, or contains itself");
    if (value == null || value instanceof Boolean) {
      out.append(value);
    } else if (value instanceof CharSequence || value instanceof Character || value instanceof Enum) {
      quote(out, value instanceof Enum ? ((Enum<?>) value).name() : value.toString());
    } else if (value instanceof Number) {
      if (value instanceof Double && !Double.isFinite((Double) value) || value instanceof Float
          && !Float.isFinite((Float) value)) throw new Wrong(value + " is no number in JSON");
      out.append(value);
    } else if (value instanceof Map) {
      char before = '{';
      for (Map.Entry<?, ?> e : ((Map<?, ?>) value).entrySet()) {
        out.append(before);
        quote(out, String.valueOf(e.getKey()));
        write(out.append(':'), e.getValue(), depth + 1);
        before = ',';
      }
      out.append(before == '{' ? "{}" : "}");
    } else if (value instanceof Iterable) {
      char before = '[';
      for (Object x : (Iterable<?>) value) {
        write(out.append(before), x, depth + 1);
        before = ',';
      }
      out.append(before == '[' ? "[]" : "]");
    } else if (value instanceof byte[]) {
      quote(out, java.util.Base64.getEncoder().encodeToString((byte[]) value));
    } else if (value.getClass().isArray()) {
      List<Object> all = new ArrayList<>();
      for (int i = 0; i < Array.getLength(value); i++) all.add(Array.get(value, i));
      write(out, all, depth);
    } else {
      Values.write(out, value, depth);
    }
  }

  static void quote(StringBuilder out, String s) {
    out.append('"');
    for (int i = 0; i < s.length(); i++) {
      char c = s.charAt(i);
      if (c == '"' || c == '\\') {
        out.append('\\').append(c);
      } else if (c == '\n') {
        out.append("\\n");
      } else if (c < ' ') {
        out.append("\\u00").append(c < 16 ? '0' : '1').append("0123456789abcdef".charAt(c & 15));
      } else {
        out.append(c);
      }
    }
    out.append('"');
  }
}
