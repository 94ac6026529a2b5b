package nightdrill;

import java.io.File;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/** Looks for classes and sources, once something has gone wrong. */
final class Finder {
  private static final int MOST = 4000; // files that are looked at
  private static final Map<String, String> KNOWN = new HashMap<>();

  private Finder() {}

  /** classes returns the names of the classes in a jar or a folder. */
  static List<String> classes(File in) {
    List<String> out = new ArrayList<>();
    if (in.isDirectory()) {
      List<File> files = new ArrayList<>();
      walk(in, 0, files);
      for (File f : files) add(out, f.getPath().substring(in.getPath().length() + 1));
      return out;
    }
    try (java.util.jar.JarFile jar = new java.util.jar.JarFile(in)) {
      for (java.util.jar.JarEntry e : java.util.Collections.list(jar.entries())) add(out, e.getName());
    } catch (java.io.IOException e) {
      // then there are none
    }
    return out;
  }

  private static void add(List<String> out, String path) {
    if (path.endsWith(".class") && !path.contains("$")) {
      out.add(path.substring(0, path.length() - 6).replace(File.separatorChar, '.').replace('/', '.'));
    }
  }

  private static void walk(File dir, int depth, List<File> out) {
    File[] all = dir.listFiles();
    if (all == null || depth > 12) return;
    java.util.Arrays.sort(all);
    for (File f : all) {
      if (out.size() >= MOST) return;
      if (!f.isDirectory()) out.add(f);
      else if (!f.getName().startsWith(".") && !f.getName().equals("node_modules")) walk(f, depth + 1, out);
    }
  }

  static String source(StackTraceElement f) {
    return source(f.getClassName(), f.getFileName());
  }

  static String source(Class<?> c) {
    while (c.getEnclosingClass() != null) c = c.getEnclosingClass();
    return source(c.getName(), c.getSimpleName() + ".java");
  }

  /** line returns the first line of a source in which a method is followed by its parameters; 0 for none. */
  static int line(String path, String method) {
    if (method == null || method.isEmpty()) return 0;
    try {
      int n = 0;
      for (String text : java.nio.file.Files.readAllLines(java.nio.file.Path.of(path))) {
        n++;
        int at = text.indexOf(" " + method + "(");
        if (at >= 0 && !text.substring(0, at).trim().endsWith("new") && !text.trim().startsWith("//")) return n;
      }
    } catch (java.io.IOException e) {
      // it is not there
    }
    return 0;
  }

  /** source returns the path of a class's source below the current folder, or its name alone. */
  private static synchronized String source(String of, String name) {
    if (name == null) return "";
    int dot = of.lastIndexOf('.');
    String below = (dot < 0 ? "" : of.substring(0, dot + 1).replace('.', '/')) + name;
    String known = KNOWN.get(below);
    if (known != null) return known;
    List<File> files = new ArrayList<>();
    walk(new File(System.getProperty("user.dir")), 0, files);
    String found = name;
    for (File f : files) {
      if (f.getPath().replace(File.separatorChar, '/').endsWith("/" + below)) {
        found = f.getPath();
        break;
      }
    }
    KNOWN.put(below, found);
    return found;
  }
}
