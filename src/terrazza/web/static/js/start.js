// What draws everything is heavy: it begins when the first points are there.
import { glanced } from "./glance.js";

await glanced;
import("./main.js");
